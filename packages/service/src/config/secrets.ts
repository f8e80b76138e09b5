import { Webhook } from 'standardwebhooks';

/** What is wrong with a secret of Standard Webhooks; `undefined` if nothing is. */
export function askSecretFault(value: string): string | undefined {
  const expected = 'expected `whsec_` and 24 to 64 bytes in base64, as of: echo "whsec_$(openssl rand -base64 32)"';
  const bytes = /^whsec_([A-Za-z0-9+/]+={0,2})$/.exec(value)?.[1];
  const length = Buffer.from(bytes ?? '', 'base64').length;
  if (bytes === undefined || length < 24 || length > 64) return expected;
  try {
    new Webhook(value);
    return undefined;
  } catch {
    return expected;
  }
}
