import type { ContractInfo } from '@nine-bells/wire';
import { membersOf, typeText } from '@nine-bells/wire/describe';

/** What data of one kind looks like: its members, an example, and the schema itself. */
export function ContractView({ name, contract }: { readonly name?: string; readonly contract: ContractInfo }) {
  const { about, from, schema, example } = contract;
  const members = membersOf(schema);
  return (
    <div className="contract">
      <h3>
        {name !== undefined && <code>{name}</code>} {about}
        {from !== undefined && <span className="faint"> only {from} publish it</span>}
      </h3>
      {members === undefined ? (
        <p>{schema === undefined ? 'Any data fits.' : `It is ${typeText(schema, schema)}.`}</p>
      ) : (
        <table className="members">
          <tbody>
            {members.map((each) => (
              <tr key={each.name}>
                <th scope="row">
                  <code>{each.name}</code>
                </th>
                <td>{each.required ? 'required' : ''}</td>
                <td>
                  {each.type}
                  {each.about !== undefined && <span className="faint"> {each.about}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {example !== undefined && <pre>{JSON.stringify(example)}</pre>}
      {schema !== undefined && (
        <details>
          <summary>JSON Schema</summary>
          <pre>{JSON.stringify(schema, null, 2)}</pre>
        </details>
      )}
    </div>
  );
}
