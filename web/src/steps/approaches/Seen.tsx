/** What a lane's code can name, as its engine says. */
import type { Lane } from "../../api/client";

export function Seen({ lane }: { lane: Lane }) {
  return (
    <>
      <h3>What an approach sees</h3>
      <p className="quiet">{lane.how}</p>
      <table className="plain">
        <tbody>
          {lane.sees.map(({ name, words }) => (
            <tr key={name}>
              <td className="mono">{name}</td>
              <td className="quiet">{words}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="quiet">{lane.answer}</p>
    </>
  );
}
