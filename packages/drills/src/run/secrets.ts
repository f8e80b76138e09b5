/** Removes tokens and session secrets from JSON text, so that reports do not contain them. */
export function withoutSecrets(text: string): string {
  return text.replace(/"(token|secret)":"[^"]*"/g, '"$1":"..."');
}
