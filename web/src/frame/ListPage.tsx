/** All comparisons: what each asks, who is in it, what the last trial said. */
import {
  BarChartOutlined,
  DeleteOutlined,
  DownloadOutlined,
  PlusOutlined,
  UploadOutlined,
} from "@ant-design/icons";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Tooltip, type InputRef } from "antd";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, taken, type Comparison, type ComparisonLine } from "../api/client";
import { useComparisons } from "../api/queries";
import { Glyph } from "../lanes/mark";
import { Help } from "../ui/Help";
import { underWay } from "../ui/job";
import { Opening } from "../ui/Opening";
import { Trouble } from "../ui/Trouble";
import { ago, plural } from "../ui/units";
import { useUndo } from "../ui/useUndo";

const SEARCHED_FROM = 8;

/** Whether a comparison holds all of the words that are sought, wherever they stand in it. */
function holds(line: ComparisonLine, sought: string): boolean {
  const lanes = line.lanes.map((lane) => lane.name);
  const told = [
    line.name,
    line.question,
    ...lanes,
    ...line.labels,
    line.last_trial?.conclusion,
  ].join(" ");
  const words = sought.toLowerCase().split(/\s+/);
  return words.every((word) => told.toLowerCase().includes(word));
}

const ORDERS = {
  changed: "last changed first",
  run: "last run first",
  name: "by name",
} as const;
type Order = keyof typeof ORDERS;
const ORDER_KEPT = "ivrell-list-order";

function ordered(lines: ComparisonLine[], order: Order): ComparisonLine[] {
  if (order === "changed") return lines;
  const by = (line: ComparisonLine) => line.last_trial?.finished_at ?? "";
  return lines.toSorted((a, b) => {
    if (order === "name") return a.name.localeCompare(b.name);
    // What goes on comes first.
    const [first, second] = [a, b].map((line) => Number(underWay(line.last_trial?.state)));
    return (second ?? 0) - (first ?? 0) || by(b).localeCompare(by(a));
  });
}

/** Keys of the list: "/" goes to the search, arrows from comparison to comparison. */
function useKeys(search: React.RefObject<InputRef | null>) {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const at = event.target as HTMLElement;
      const typing = /^(INPUT|TEXTAREA|SELECT)$/.test(at.tagName);
      if (event.key === "/" && !typing) search.current?.focus();
      else if (event.key === "ArrowDown" || event.key === "ArrowUp") {
        if (typing && !at.closest(".list-search")) return;
        const links = [...document.querySelectorAll<HTMLElement>(".comparisons h2 a")];
        const here = links.indexOf(document.activeElement as HTMLElement);
        const next = event.key === "ArrowDown" ? here + 1 : here - 1;
        if (next < 0) search.current?.focus();
        else links[next]?.focus();
      } else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [search]);
}

export function ListPage() {
  const { data, error, isPending } = useComparisons();
  const navigate = useNavigate();
  const open = (made: Comparison) => void navigate(`/comparisons/${made.id}/question`);
  const create = useMutation({
    mutationFn: () => taken(api.POST("/api/comparisons/")),
    onSuccess: open,
  });
  const bringIn = useMutation({
    mutationFn: async (file: File) =>
      taken(api.POST("/api/comparisons/import/", { body: { text: await file.text() } })),
    onSuccess: open,
  });
  const bringBundle = useMutation({
    mutationFn: (file: File) => {
      const body = new FormData();
      body.append("file", file);
      return taken(api.POST("/api/bundles/", { body: { file: "" }, bodySerializer: () => body }));
    },
    onSuccess: (trial) => void navigate(`/comparisons/${trial.comparison}/findings`),
  });
  const shape = useMutation({
    mutationFn: async (files: File[]) => {
      const body = new FormData();
      for (const file of files) body.append("files", file);
      body.append("allow", allowed);
      return taken(
        api.POST("/api/comparisons/propose/", {
          body: { files: [] },
          bodySerializer: () => body,
        }),
      );
    },
    onSuccess: (made) => void navigate(`/comparisons/${made.id}/data`),
  });
  const [chosen, setChosen] = useState<File[]>([]);
  const [allowed, setAllowed] = useState("");
  const [sought, setSought] = useState("");
  const [label, setLabel] = useState<string | null>(null);
  const [order, setOrder] = useState<Order>(
    () => (localStorage.getItem(ORDER_KEPT) as Order | null) ?? "changed",
  );
  const labels = [...new Set(data?.flatMap((line) => line.labels))].toSorted();
  const found = ordered(
    data?.filter((line) => holds(line, sought) && (!label || line.labels.includes(label))) ?? [],
    order in ORDERS ? order : "changed",
  );
  const search = useRef<InputRef>(null);
  useKeys(search);
  const picker = useRef<HTMLInputElement>(null);
  const samples = useRef<HTMLInputElement>(null);
  return (
    <main className="sheet-page wide">
      <div className="row list-head">
        <h1 className="grow">Comparisons</h1>
        <input
          ref={picker}
          type="file"
          accept=".toml,.zip"
          hidden
          data-testid="import-file"
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) (file.name.endsWith(".zip") ? bringBundle : bringIn).mutate(file);
            event.target.value = "";
          }}
        />
        <input
          ref={samples}
          type="file"
          accept=".csv,.parquet"
          multiple
          hidden
          data-testid="sample-files"
          onChange={(event) => {
            const files = [...(event.target.files ?? [])];
            setChosen(files);
            event.target.value = "";
          }}
        />
        <Tooltip title="Proposes a recipe shaped like csv or parquet files of yours; no value of them is taken over and they are not kept">
          <Button
            icon={<BarChartOutlined />}
            loading={shape.isPending}
            onClick={() => samples.current?.click()}
          >
            Shape like a sample
          </Button>
        </Tooltip>
        <Tooltip title="A comparison file, or a bundle: somebody's trial in one .zip">
          <Button
            icon={<UploadOutlined />}
            loading={bringIn.isPending || bringBundle.isPending}
            onClick={() => picker.current?.click()}
          >
            Import a file
          </Button>
        </Tooltip>
        <Button type="primary" icon={<PlusOutlined />} onClick={() => create.mutate()}>
          New comparison
        </Button>
      </div>
      {chosen.length > 0 && (
        <div className="sample-choice" data-testid="sample-choice">
          <span>
            A recipe shaped like <strong>{chosen.map((file) => file.name).join(", ")}</strong>. No
            value of yours is taken over, but for the categories named here:
          </span>
          <Input
            size="small"
            value={allowed}
            aria-label="Categories whose values may be taken over"
            placeholder="none; or such as locks.reach, cargo.kind"
            onChange={(event) => setAllowed(event.target.value)}
          />
          <Button
            size="small"
            type="primary"
            loading={shape.isPending}
            data-testid="shape"
            onClick={() => shape.mutate(chosen)}
          >
            Propose
          </Button>
          <Button size="small" onClick={() => setChosen([])}>
            Leave it
          </Button>
        </div>
      )}
      <Trouble
        error={error ?? create.error ?? bringIn.error ?? bringBundle.error ?? shape.error}
        id="import-problem"
      />
      {isPending && <Opening what="the comparisons" />}
      {!isPending && !data?.length && !error && (
        <p className="quiet">
          There is no comparison yet. Start a new one, or import a comparison file.{" "}
          <Help place="tutorial/" word="The first comparison takes ten minutes." />
        </p>
      )}
      {data && data.length > SEARCHED_FROM && (
        <Input.Search
          ref={search}
          allowClear
          className="list-search"
          value={sought}
          aria-label="Search the comparisons"
          placeholder={`Search ${data.length} comparisons: names, questions, lanes, conclusions`}
          onChange={(event) => setSought(event.target.value)}
        />
      )}
      {data && data.length > 1 && (
        <div className="row small quiet list-order">
          {/* The browser's own: a larger one would be half of what is loaded first. */}
          <select
            className="plain-select"
            aria-label="Order"
            value={order}
            onChange={(event) => {
              localStorage.setItem(ORDER_KEPT, event.target.value);
              setOrder(event.target.value as Order);
            }}
          >
            {Object.entries(ORDERS).map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
          {labels.map((word) => (
            <button
              key={word}
              className={`sorted-by ${label === word ? "here" : ""}`}
              aria-pressed={label === word}
              onClick={() => setLabel(label === word ? null : word)}
            >
              {word}
            </button>
          ))}
        </div>
      )}
      {sought && !found?.length && <p className="quiet">No comparison holds these words.</p>}
      <ul className="comparisons">
        {found.map((line) => (
          <Line key={line.id} line={line} />
        ))}
      </ul>
    </main>
  );
}

function Line({ line }: { line: ComparisonLine }) {
  const cache = useQueryClient();
  const undo = useUndo();
  const refresh = () => cache.invalidateQueries({ queryKey: ["comparisons"] });
  const at = { params: { path: { id: line.id } } };
  const restore = async () => {
    await taken(api.POST("/api/comparisons/{id}/restore/", at));
    await refresh();
  };
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/comparisons/{id}/", at)),
    onSuccess: async () => {
      await refresh();
      undo(`deleted-${line.id}`, `“${line.name}” is deleted.`, () => void restore());
    },
  });
  const put = useMutation({
    mutationFn: (labels: string[]) =>
      taken(api.PUT("/api/comparisons/{id}/labels/", { ...at, body: { labels } })),
    onSuccess: refresh,
  });
  const trial = line.last_trial;
  return (
    <li>
      <div className="grow">
        <h2>
          <Link to={`/comparisons/${line.id}/${trial ? "findings" : "question"}`}>{line.name}</Link>
        </h2>
        {line.problem && (
          <div className="trouble">
            Its file cannot be read by this version. {line.problem} Download it, change that, and
            bring it in again.
          </div>
        )}
        {!line.problem && (
          <p>{line.question || <span className="faint">No question written yet.</span>}</p>
        )}
        {trial?.conclusion && <p className="conclusion-line">{trial.conclusion}</p>}
        <p className="small quiet lane-names">
          {line.lanes.map((lane) => (
            <span key={lane.mark}>
              <Glyph place={lane.mark} size={13} /> {lane.name}
            </span>
          ))}
          {!line.lanes.length && !line.problem && "No lane yet."}
        </p>
      </div>
      <div className="small quiet side">
        <div>{line.trials ? plural(line.trials, "trial") : "no trial yet"}</div>
        {trial &&
          (underWay(trial.state) ? (
            <div>
              <Link className="caution" to={`/comparisons/${line.id}/trial`}>
                {trial.state}
              </Link>
            </div>
          ) : (
            <div>
              {trial.state === "done" ? "last" : trial.state}{" "}
              {trial.finished_at && ago(trial.finished_at)}
            </div>
          ))}
        <div>changed {ago(line.changed_at)}</div>
        <Labels line={line} onPut={(labels) => put.mutate(labels)} />
        <div className="row">
          <Tooltip title="Download the comparison file">
            <Button
              size="small"
              type="text"
              href={`/api/comparisons/${line.id}/file/`}
              icon={<DownloadOutlined />}
              aria-label={`Download ${line.name}`}
            />
          </Tooltip>
          <Tooltip title="Delete (can be undone)">
            <Button
              size="small"
              type="text"
              icon={<DeleteOutlined />}
              aria-label={`Delete ${line.name}`}
              onClick={() => remove.mutate()}
            />
          </Tooltip>
        </div>
      </div>
    </li>
  );
}

/** The labels of a comparison; others are written with commas between. */
function Labels(props: { line: ComparisonLine; onPut: (labels: string[]) => void }) {
  const { line, onPut } = props;
  const [draft, setDraft] = useState<string | null>(null);
  const put = () => {
    if (draft !== null && draft !== line.labels.join(", ")) {
      onPut(draft.split(",").flatMap((word) => word.trim() || []));
    }
    setDraft(null);
  };
  if (draft !== null) {
    return (
      <Input
        autoFocus
        size="small"
        className="labels-field"
        value={draft}
        aria-label={`Labels of ${line.name}`}
        placeholder="labels, with commas between"
        onChange={(event) => setDraft(event.target.value)}
        onBlur={put}
        onPressEnter={put}
        onKeyDown={(event) => event.key === "Escape" && setDraft(null)}
      />
    );
  }
  return (
    <button
      className="text labels"
      title={`Change the labels of ${line.name}`}
      onClick={() => setDraft(line.labels.join(", "))}
    >
      {line.labels.map((word) => (
        <span key={word} className="sorted-by">
          {word}
        </span>
      ))}
      <span className="small quiet">{line.labels.length ? "" : "label…"}</span>
    </button>
  );
}
