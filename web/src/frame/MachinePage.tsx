/** This machine: what it is, its engines, and how figures are taken on it. */
import { useEngines, useMachine } from "../api/queries";
import { Trouble } from "../ui/Trouble";
import { bytes } from "../ui/units";

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
        ["CPU time is", machine.methods.cpu ?? ""],
        ["Peak memory is", machine.methods.memory ?? ""],
      ]
    : [];
  return (
    <main className="sheet-page wide">
      <h1>This machine</h1>
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
      <h2>Engines</h2>
      <table className="plain facts">
        <tbody>
          {engines.data?.engines.map((engine) => (
            <tr key={engine.name}>
              <th scope="row">{engine.name}</th>
              <td>
                {engine.installed ? (
                  "ready"
                ) : (
                  <span className="caution">
                    not installed; install with <code className="mono">{engine.cure}</code>
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
    </main>
  );
}
