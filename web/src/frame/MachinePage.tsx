/** This machine: what it is, its engines, and how figures are taken on it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { api, taken } from "../api/client";
import { useEngines, useMachine, useNow } from "../api/queries";
import { Trouble } from "../ui/Trouble";
import { Machines } from "./Machines";
import { Clusters, Environments, Runtimes, Servers } from "./Registries";
import { ago, bytes, chosenBytes, count, figures, plural } from "../ui/units";

type Machine = {
  host: string;
  processor: string;
  cores: number;
  busy_cores: number;
  memory_bytes: number;
  free_memory_bytes: number;
  free_disk_bytes: number;
  kernel: string;
  system: string;
  python: string;
  load: number[];
  pressure: Record<string, number> | null;
  methods: Record<string, string>;
  sandbox: { works: boolean; why_not: string | null };
  noise: {
    taken_at: string;
    busy_cores: number;
    rounds: number;
    floors: Record<string, number>;
  } | null;
};

export function MachinePage() {
  const { data, error } = useMachine();
  const engines = useEngines();
  const machine = data as Machine | undefined;
  const rows: [string, string][] = machine
    ? [
        ["Processor", machine.processor],
        ["Cores", `${machine.cores}, ${machine.busy_cores.toFixed(1)} busy now`],
        ["Memory", `${bytes(machine.memory_bytes)}, ${bytes(machine.free_memory_bytes)} free`],
        ["Disk for data", `${bytes(machine.free_disk_bytes)} free`],
        ["System", `${machine.system}, kernel ${machine.kernel}`],
        ["Load averages", machine.load.map((x) => x.toFixed(2)).join(", ")],
        [
          "Waiting in the last 10 s",
          machine.pressure
            ? Object.entries(machine.pressure)
                .map(([what, share]) => `${what} ${share} %`)
                .join(", ")
            : "not told by this kernel",
        ],
        [
          "Runs are sandboxed",
          machine.sandbox.works
            ? "yes: the system's programs and their inputs read-only, a folder of their own, no network"
            : `no: ${machine.sandbox.why_not ?? ""}`,
        ],
        ["CPU time is", machine.methods.cpu ?? ""],
        ["Peak memory is", machine.methods.memory ?? ""],
      ]
    : [];
  return (
    <main className="sheet-page wide">
      <h1>This machine</h1>
      <Now />
      <Trouble error={error ?? engines.error} />
      <table className="plain facts">
        <tbody>
          {rows.map(([name, value]) => (
            <tr key={name}>
              <th scope="row">{name}</th>
              <td>{value}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {machine && <Noise noise={machine.noise} />}
      <h2>Engines</h2>
      <table className="plain facts">
        <tbody>
          {engines.data?.engines.map((engine) => (
            <tr key={engine.name}>
              <th scope="row">{engine.name}</th>
              <td>
                {engine.installed ? (
                  "ready"
                ) : engine.problem ? (
                  <span className="caution">{engine.problem}</span>
                ) : engine.arriving ? (
                  "arriving: it is being installed just now"
                ) : (
                  <span className="caution">
                    not installed; install with <code className="mono">{engine.hint}</code>
                  </span>
                )}
                <span className="quiet">
                  {" "}
                  {Object.entries(engine.versions)
                    .map(([name, version]) => `${name} ${version}`)
                    .join(", ")}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Machines />
      <Environments />
      <Runtimes />
      <Servers />
      <Clusters />
      <MadeData />
    </main>
  );
}

/** What is running here now. */
function Now() {
  const { data: now } = useNow();
  if (!now) return null;
  const waiting = now.waiting ? `, and ${plural(now.waiting, "trial")} waiting` : "";
  return (
    <p data-testid="running-now">
      {now.trial === null ? (
        `Nothing of Ivrell’s runs here now${waiting}.`
      ) : (
        <>
          <Link to={`/comparisons/${now.comparison}/trial?trial=${now.trial}`}>
            Trial {now.trial} of {now.comparison_name}
          </Link>{" "}
          is running{waiting}.
        </>
      )}
      {!now.worker && now.trial === null && (
        <span className="caution"> No worker answers; it starts with ./start.</span>
      )}
    </p>
  );
}

/** How far equals come out apart on this machine, and measuring it anew. */
function Noise({ noise }: { noise: Machine["noise"] }) {
  const cache = useQueryClient();
  const now = useNow();
  const measuring = now.data?.noise ?? false;
  const before = useRef(measuring);
  useEffect(() => {
    // Only at its end: what would be asked meanwhile would be measured with it.
    if (before.current && !measuring) void cache.invalidateQueries({ queryKey: ["machine"] });
    before.current = measuring;
  }, [measuring, cache]);
  const measure = useMutation({
    mutationFn: () => taken(api.POST("/api/machine/noise/")),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["now"] }),
  });
  return (
    <>
      <h2>Noise of this machine</h2>
      <Trouble error={measure.error} />
      <p className="row">
        <span data-testid="noise">
          {noise
            ? `An A/A test (one approach against itself) came out up to ${percent(noise.floors["5"])} apart in 5 ` +
              `rounds and ${percent(noise.floors["10"])} in 10, measured ${ago(noise.taken_at)} ` +
              `with ${noise.busy_cores.toFixed(1)} cores busy. A ratio within that cannot be told apart.`
            : "Never measured here. An A/A test runs one approach against itself, so that differences that the machine brings about by itself are known."}
        </span>
        <Button
          size="small"
          loading={measure.isPending || measuring}
          data-testid="measure-noise"
          onClick={() => measure.mutate()}
        >
          {measuring ? "Measuring" : noise ? "Measure again" : "Measure"}
        </Button>
      </p>
    </>
  );
}

function percent(factor: number | undefined): string {
  return factor === undefined ? "–" : `${figures(100 * (factor - 1), 2)} %`;
}

function MadeData() {
  const cache = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ["made"],
    queryFn: () => taken(api.GET("/api/made/")),
  });
  const clear = useMutation({
    mutationFn: () => taken(api.DELETE("/api/made/")),
    onSuccess: (left) => cache.setQueryData(["made"], left),
  });
  const total = [...(data?.kept ?? []), ...(data?.loaded ?? [])].reduce(
    (sum, entry) => sum + entry.size_bytes,
    0,
  );
  return (
    <>
      <h2>Made data</h2>
      <Trouble error={error ?? clear.error} />
      {data && (
        <p className="row">
          <span>
            {total ? `${bytes(total)} of ` : "Nothing kept; up to "}
            {chosenBytes(data.limit_bytes)} are kept between trials; what was used longest ago goes
            first.
          </span>
          {total > 0 && (
            <Button size="small" loading={clear.isPending} onClick={() => clear.mutate()}>
              Clear
            </Button>
          )}
        </p>
      )}
      <table className="plain facts">
        <tbody>
          {data?.loaded.map((entry, i) => (
            <tr key={i}>
              <th scope="row">{entry.engine}</th>
              <td>
                {entry.tables.join(", ")}, {count(entry.rows)} rows loaded
                {entry.indexes.length > 0 && `, ${entry.indexes.join(", ")}`}
              </td>
              <td className="number">{bytes(entry.size_bytes)}</td>
              <td />
            </tr>
          ))}
          {data?.kept.slice(0, 12).map((entry) => (
            <tr key={entry.fingerprint}>
              <th scope="row" className="mono">
                {entry.fingerprint.slice(0, 8)}
              </th>
              <td>{entry.tables.join(", ")}</td>
              <td className="number">{bytes(entry.size_bytes)}</td>
              <td className="quiet">{ago(new Date(entry.used_at * 1000).toISOString())}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
