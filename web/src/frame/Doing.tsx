/** What the machine is doing now, with a way to stop it. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Tooltip } from "antd";
import { Link } from "react-router";
import { api, taken, type Schemas } from "../api/client";
import { useNow } from "../api/queries";

export function Doing() {
  const { data: now, error } = useNow();
  const cache = useQueryClient();
  const stop = useMutation({
    mutationFn: (id: number) =>
      taken(api.POST("/api/trials/{id}/stop/", { params: { path: { id } } })),
    onSettled: () => cache.invalidateQueries(),
  });
  if (error) return <span className="doing bad">The server does not answer</span>;
  if (!now) return null;
  if (!now.worker && now.trial === null) {
    return (
      <Tooltip title="Trials wait in the queue until the worker is back. It starts with ./start.">
        <span className="doing caution">
          <span className="lamp" />
          no worker
        </span>
      </Tooltip>
    );
  }
  if (now.trial === null) {
    return (
      <span className="doing">
        <span className="lamp idle" />
        <Link to="/queue">{idleWords(now)}</Link>
      </span>
    );
  }
  const trial = now.trial;
  return (
    <span className="doing">
      <span className="lamp busy" />
      <Link to={`/comparisons/${now.comparison}/trial?trial=${trial}`}>
        trial {trial} of {now.comparison_name}
      </Link>
      <Link to="/queue" className="quiet">
        {now.waiting > 0 ? `${now.waiting} waiting` : "queue"}
      </Link>
      <Button
        size="small"
        loading={stop.isPending}
        onClick={() => stop.mutate(trial)}
        aria-label={`Stop trial ${trial}`}
      >
        Stop
      </Button>
    </span>
  );
}

function idleWords(now: Schemas["Now"]): string {
  if (now.waiting) return "starting";
  return now.paused ? `${now.paused} paused` : "idle";
}
