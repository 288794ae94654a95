/** Trouble told plainly: what, where, what to do. */
import { Problem } from "../api/client";
import { Help } from "./Help";

export function Trouble({ error, id }: { error: unknown; id?: string }) {
  if (!error) return null;
  const problem = error instanceof Problem ? error : new Problem(String(error));
  return (
    <div className="trouble" role="alert" data-testid={id}>
      {problem.where && <div className="where">{problem.where}</div>}
      {problem.what} {problem.hint} <Help place={problem.help} />
    </div>
  );
}
