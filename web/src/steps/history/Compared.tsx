/** Trials side by side, of other machines, months or people too: each held against the first. */
import { useQuery } from "@tanstack/react-query";
import { Select } from "antd";
import { Link } from "react-router";
import { api, type Comparison, type Schemas, taken } from "../../api/client";
import { useComparisons } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { aboutRatio, toldRatio } from "../../lanes/ratio";
import { Copy } from "../../ui/Copy";
import { asMarkdown } from "../../ui/download";
import { Opening } from "../../ui/Opening";
import { Trouble } from "../../ui/Trouble";
import { pointWords, seconds } from "../../ui/units";
import { useView } from "../../ui/view";

type Row = Schemas["ComparedTrial"];

/** The trials that are chosen, in the order of choice, as the address keeps them. */
export function useBeside(): [number[], (trials: number[]) => void] {
  const view = useView();
  const chosen = (view.beside ?? "").split(",").filter((one) => /^\d+$/.test(one));
  return [chosen.map(Number), (trials) => view.set({ beside: trials.join(",") || null })];
}

export function Compared({ comparison }: { comparison: Comparison }) {
  const view = useView();
  const [chosen, choose] = useBeside();
  const trials = chosen.join(",");
  const { data, error } = useQuery({
    queryKey: ["compared", trials, view.point],
    enabled: chosen.length > 1,
    retry: false,
    placeholderData: (before) => before,
    queryFn: () =>
      taken(
        api.GET("/api/compared/", {
          params: { query: { trials, ...(view.point ? { point: view.point } : {}) } },
        }),
      ),
  });
  return (
    <section className="compared" data-testid="compared">
      <h3>Side by side</h3>
      <p className="small quiet">
        {chosen.length === 0 && "Tick trials below: each is held against the first. "}
        {chosen.length === 1 && "Tick one more. "}
        {data && chosen.length > 1 && data.trials[0] && (
          <>
            Elapsed time
            {data.point && Object.keys(data.point).length > 0 && ` at ${pointWords(data.point)}`},
            and how it changed against {data.trials[0].name}, without the machine’s part.{" "}
          </>
        )}
        <Elsewhere comparison={comparison.id} chosen={chosen} onChoose={choose} />
        {chosen.length > 0 && (
          <button className="text link" onClick={() => choose([])}>
            clear
          </button>
        )}
      </p>
      {chosen.length > 1 && <Trouble error={error} />}
      {chosen.length > 1 && !data && !error && <Opening what="the trials" />}
      {chosen.length > 1 && data && !error && <Rows comparison={comparison} found={data} />}
    </section>
  );
}

/** The newest trials of other comparisons, such as one that came as a bundle. */
function Elsewhere(props: {
  comparison: number;
  chosen: number[];
  onChoose: (trials: number[]) => void;
}) {
  const { comparison, chosen, onChoose } = props;
  const all = useComparisons().data ?? [];
  const options = all.flatMap((one) =>
    one.id !== comparison && one.last_trial && !chosen.includes(one.last_trial.id)
      ? [{ value: one.last_trial.id, label: `trial ${one.last_trial.id} of ${one.name}` }]
      : [],
  );
  if (!options.length) return null;
  return (
    <Select
      size="small"
      variant="underlined"
      showSearch
      optionFilterProp="label"
      popupMatchSelectWidth={false}
      placeholder="and one of another comparison"
      aria-label="Trial of another comparison"
      value={null}
      options={options}
      onChange={(trial: number | null) => trial && onChoose([...chosen, trial])}
    />
  );
}

const HEAD = ["trial", "lane", "median, s", "times faster than in the first", "from", "to"];

function figuresOf(found: Schemas["Compared"]) {
  return found.trials.flatMap((row) =>
    row.lanes.map((one) => [
      row.name,
      found.lanes[one.lane] ?? one.lane,
      one.median,
      one.change?.value ?? null,
      one.change?.low ?? null,
      one.change?.high ?? null,
    ]),
  );
}

function Rows({ comparison, found }: { comparison: Comparison; found: Schemas["Compared"] }) {
  const lanes = Object.entries(found.lanes);
  const others = useComparisons().data ?? [];
  const owner = (trial: number) =>
    others.find((one) => one.last_trial?.id === trial)?.id ?? comparison.id;
  const lane = (row: Row, id: string) => row.lanes.find((one) => one.lane === id);
  return (
    <>
      <div className="scroll">
        <table className="plain" data-testid="compared-table">
          <thead>
            <tr>
              <th>trial</th>
              {lanes.map(([id, name]) => (
                <th key={id}>
                  <Glyph place={comparison.marks[id] ?? 0} size={13} /> {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.trials.map((row, place) => (
              <tr key={row.trial} data-testid={`compared-${row.trial}`}>
                <td className="small">
                  <Link to={`/comparisons/${owner(row.trial)}/findings?trial=${row.trial}`}>
                    {row.name}
                  </Link>
                  <br />
                  <span className="quiet">
                    {new Date(row.at).toLocaleDateString("en-GB")} on {row.machine}
                  </span>
                  {place > 0 && <div className="faint">{row.words}</div>}
                </td>
                {lanes.map(([id]) => {
                  const one = lane(row, id);
                  const told = one?.change && toldRatio(one.change);
                  return (
                    <td key={id} title={one?.change ? aboutRatio(one.change) : undefined}>
                      {row.quickest === id ? (
                        <strong>{seconds(one?.median)}</strong>
                      ) : (
                        seconds(one?.median)
                      )}
                      {told && (
                        <div className="small quiet">
                          {told.factor} {told.verdict}
                        </div>
                      )}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Copy what="table" text={asMarkdown(HEAD, figuresOf(found))} />
    </>
  );
}
