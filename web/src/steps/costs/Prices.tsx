/** The price tables that the user keeps: machines, storages, and the word behind every amount. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { api, Problem, taken } from "../../api/client";
import { FieldsForm } from "../../ui/FieldsForm";
import { Editable } from "../../ui/Editable";
import { Trouble } from "../../ui/Trouble";
import { bytes } from "../../ui/units";
import type { PriceTables } from "./CostView";

const GB = 1e9;

/** A number that somebody typed; null for none. What is no number is told. */
function typedNumber(label: string, typed: string | undefined): number | null {
  if (!typed?.trim()) return null;
  const value = Number(typed.replace(",", "."));
  if (!Number.isFinite(value)) throw new Problem(`“${typed}” is no number.`, label);
  return value;
}

function without<T>(table: Record<string, T>, name: string): Record<string, T> {
  return Object.fromEntries(Object.entries(table).filter(([key]) => key !== name));
}

export function Prices({ prices }: { prices: PriceTables }) {
  const cache = useQueryClient();
  const put = useMutation<PriceTables, Problem, () => PriceTables>({
    mutationFn: (next) =>
      Promise.resolve().then(() => taken(api.PUT("/api/prices/", { body: next() }))),
    onSuccess: (kept) => cache.setQueryData(["prices"], kept),
  });
  const { machines, storages, currency } = prices;
  return (
    <div className="prices" data-testid="prices">
      <p className="quiet">
        Prices are yours: Ivrell knows none. They stay on this machine, amounts in{" "}
        <Editable
          value={currency}
          label="Currency"
          placeholder="a currency"
          onTake={(word) => put.mutate(() => ({ ...prices, currency: word }))}
        />
      </p>
      <table className="plain facts">
        <tbody>
          {Object.entries(machines).map(([name, machine]) => (
            <tr key={name} data-testid={`price-${name}`}>
              <th scope="row">{name}</th>
              <td>
                {[
                  machine.per_hour !== null && `${machine.per_hour} an hour`,
                  machine.per_cpu_hour !== null && `${machine.per_cpu_hour} an hour of CPU time`,
                  machine.memory_bytes !== null && `${bytes(machine.memory_bytes)} of memory`,
                ]
                  .filter(Boolean)
                  .join(", ")}
              </td>
              <td>
                <Button
                  size="small"
                  onClick={() =>
                    put.mutate(() => ({ ...prices, machines: without(machines, name) }))
                  }
                >
                  Forget
                </Button>
              </td>
            </tr>
          ))}
          {Object.entries(storages).map(([name, storage]) => (
            <tr key={name} data-testid={`price-${name}`}>
              <th scope="row">{name}</th>
              <td>{storage.per_gb_month} a month for 10⁹ bytes</td>
              <td>
                <Button
                  size="small"
                  onClick={() =>
                    put.mutate(() => ({ ...prices, storages: without(storages, name) }))
                  }
                >
                  Forget
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <FieldsForm
        fields={[
          { key: "name", label: "Name of the machine", hint: "a machine" },
          { key: "hour", label: "Price of an hour", hint: "an hour" },
          { key: "cpu", label: "Price of an hour of CPU time", hint: "or an hour of CPU time" },
          { key: "memory", label: "Memory in GB", hint: "its memory, GB" },
        ]}
        button="Keep the machine"
        id="keep-machine"
        pending={put.isPending}
        onSubmit={(values, done) =>
          put.mutate(
            () => {
              const memory = typedNumber("memory", values.memory);
              const machine = {
                per_hour: typedNumber("an hour", values.hour),
                per_cpu_hour: typedNumber("an hour of CPU time", values.cpu),
                memory_bytes: memory === null ? null : Math.round(memory * GB),
              };
              return { ...prices, machines: { ...machines, [values.name?.trim() ?? ""]: machine } };
            },
            { onSuccess: done },
          )
        }
      />
      <FieldsForm
        fields={[
          { key: "name", label: "Name of the storage", hint: "a storage" },
          { key: "month", label: "Price of 10⁹ bytes a month", hint: "10⁹ bytes a month" },
        ]}
        button="Keep the storage"
        id="keep-storage"
        pending={put.isPending}
        onSubmit={(values, done) =>
          put.mutate(
            () => {
              const per_gb_month = typedNumber("a month", values.month);
              if (per_gb_month === null) throw new Problem("A storage needs a price.", "a month");
              const name = values.name?.trim() ?? "";
              return { ...prices, storages: { ...storages, [name]: { per_gb_month } } };
            },
            { onSuccess: done },
          )
        }
      />
      <Trouble error={put.error} id="prices-problem" />
    </div>
  );
}
