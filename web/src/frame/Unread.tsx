/** What came with somebody's trial: its code runs once somebody has said that it was read. */
import { Button, Popconfirm } from "antd";
import { Link } from "react-router";
import type { Comparison } from "../api/client";
import { changes, useChange } from "../api/queries";

export function Unread({ comparison }: { comparison: Comparison }) {
  const change = useChange(comparison.id);
  if (!comparison.unread) return null;
  return (
    <div className="unread" role="note" data-testid="unread">
      <span>
        This comparison came with somebody’s trial. Its figures can be looked at; its code runs only
        once you have read it.
      </span>
      <Link to={`/comparisons/${comparison.id}/approaches`}>Read the code</Link>
      <Popconfirm
        title="Have you read the code of every lane?"
        description="It will run in the sandbox of this machine whenever it is asked for."
        okText="I have read it"
        cancelText="Not yet"
        onConfirm={() => change.mutate(changes.codeIsRead())}
      >
        <Button size="small">Let it run…</Button>
      </Popconfirm>
    </div>
  );
}
