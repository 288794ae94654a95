/** Other machines that run trials of this Ivrell: added here, they join with the token told once. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, taken, type Problem, type Schemas } from "../api/client";
import { FieldsForm } from "../ui/FieldsForm";
import { useMachines } from "../api/queries";
import { Trouble } from "../ui/Trouble";
import { ago, plural } from "../ui/units";

type Found = Schemas["JoinedList"];

export function Machines() {
  const cache = useQueryClient();
  const { data, error } = useMachines(true);
  const [added, setAdded] = useState<{ name: string; token: string } | null>(null);
  const keep = (found: Found) => cache.setQueryData(["machines"], found);
  const add = useMutation<Found, Problem, Record<string, string>>({
    mutationFn: ({ name = "", labels = "" }) =>
      taken(
        api.POST("/api/machines/", {
          body: { name, labels: labels.split(",").flatMap((word) => word.trim() || []) },
        }),
      ),
    onSuccess: (found, { name = "" }) => {
      keep(found);
      setAdded({ name, token: found.token });
    },
  });
  const remove = useMutation<Found, Problem, string>({
    mutationFn: (gone) =>
      taken(api.DELETE("/api/machines/", { params: { query: { name: gone } } })),
    onSuccess: (found) => {
      keep(found);
      setAdded(null);
    },
  });
  return (
    <>
      <h2>Other machines</h2>
      <p className="quiet">
        A worker on another machine takes trials from here, makes its data itself, runs them in its
        own sandbox and sends back what was measured. It opens no port.
      </p>
      <Trouble error={error ?? add.error ?? remove.error} id="machines-problem" />
      <table className="plain facts">
        <tbody>
          {data?.machines.map((one) => (
            <tr key={one.name} data-testid={`machine-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                {one.seen_at === null ? (
                  <span className="quiet">has not joined yet</span>
                ) : one.away ? (
                  <span className="caution">away, last heard of {ago(one.seen_at)}</span>
                ) : (
                  "here"
                )}{" "}
                <span className="quiet">{one.words}</span>
                {one.labels.map((label) => (
                  <span key={label} className="sorted-by">
                    {label}
                  </span>
                ))}
                {one.trials > 0 && ` ${plural(one.trials, "trial")} under way`}
              </td>
              <td>
                <Button size="small" onClick={() => remove.mutate(one.name)}>
                  Remove
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {added && (
        <div className="joining" data-testid="joining">
          On {added.name}, put this token into a file, which is told here once:
          <pre data-testid="token">{added.token}</pre>
          and let it join:
          <pre>ivrell worker --join {window.location.origin} --token-from file:TOKEN</pre>
          <span className="small quiet">
            From another machine that needs https: put a proxy with a certificate before this one.
          </span>
        </div>
      )}
      <FieldsForm
        fields={[
          { key: "name", label: "Name of the machine", hint: "its name" },
          {
            key: "labels",
            label: "Labels of the machine",
            hint: "labels, with commas between (may be empty)",
          },
        ]}
        button="Add"
        id="add-machine"
        pending={add.isPending}
        onSubmit={(values, taken) => add.mutate(values, { onSuccess: taken })}
      />
    </>
  );
}
