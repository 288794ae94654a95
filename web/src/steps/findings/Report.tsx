/** Writing a trial down for others: the paragraph, and the report as a page, Markdown or PDF. */
import { CopyOutlined, FileTextOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { App, Button, Drawer, Segmented, Select, Tooltip } from "antd";
import { useState } from "react";
import { api, type Comparison, type Findings, taken, type Trial } from "../../api/client";
import { give } from "../../ui/download";
import { Trouble } from "../../ui/Trouble";
import { useView } from "../../ui/view";

type Form = "html" | "markdown" | "pdf";

const FORMS: Record<Form, { word: string; about: string; suffix: string }> = {
  html: {
    word: "page",
    about: "One HTML file that needs nothing beside it: to read, to print, to pass on.",
    suffix: "html",
  },
  markdown: {
    word: "Markdown",
    about: "Text for a repository or a pull request, with its drawings, in one archive.",
    suffix: "zip",
  },
  pdf: { word: "PDF", about: "Printed by the browser of this machine.", suffix: "pdf" },
};

type Props = { comparison: Comparison; trial: Trial; findings: Findings };

export function Report(props: Props) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Tooltip title="Write it down for others: a paragraph, or the whole report">
        <Button
          size="small"
          type="text"
          icon={<FileTextOutlined />}
          aria-label="Report"
          onClick={() => setOpen(true)}
        />
      </Tooltip>
      {open && <ReportDialog {...props} onLeave={() => setOpen(false)} />}
    </>
  );
}

function ReportDialog({ comparison, trial, findings, onLeave }: Props & { onLeave: () => void }) {
  const view = useView();
  const { message } = App.useApp();
  const at = { params: { path: { id: trial.id } } };
  const { data: summary, error: untold } = useQuery({
    queryKey: ["summary", trial.id, comparison.claims],
    queryFn: () => taken(api.GET("/api/trials/{id}/summary/", at)),
  });
  const [form, setForm] = useState<Form>("html");
  const shown = view.base && view.lane && view.base !== view.lane;
  const [pairs, setPairs] = useState<string[]>(shown ? [`${view.base},${view.lane}`] : []);
  const [making, setMaking] = useState(false);
  const [trouble, setTrouble] = useState<unknown>(null);
  const name = (id: string) => findings.lanes.find((lane) => lane.id === id)?.name ?? id;
  const base = findings.lanes.find((lane) => lane.baseline) ?? findings.lanes[0];
  const offered = findings.lanes
    .filter((lane) => lane.id !== base?.id)
    .map((lane) => `${base?.id},${lane.id}`);
  const words = (pair: string) => pair.split(",").map(name).join(" and ");
  const download = async (asked: Promise<unknown>, name: string) => {
    setMaking(true);
    setTrouble(null);
    try {
      give(name, (await asked) as Blob);
      onLeave();
    } catch (error) {
      setTrouble(error);
    } finally {
      setMaking(false);
    }
  };
  const write = () => {
    const query = { form, pair: pairs, point: JSON.stringify(findings.point) };
    const asked = api.GET("/api/trials/{id}/report/", {
      params: { ...at.params, query },
      parseAs: "blob",
    });
    return download(taken(asked), `${comparison.name} ${trial.id}.${FORMS[form].suffix}`);
  };
  const pack = () => {
    const asked = api.GET("/api/trials/{trial}/bundle/", {
      params: { path: { trial: trial.id } },
      parseAs: "blob",
    });
    return download(taken(asked), `${comparison.name} ${trial.id} bundle.zip`);
  };
  return (
    <Drawer
      open
      mask={false}
      title="For others to read"
      size={560}
      onClose={onLeave}
      footer={
        <div className="row report-foot">
          <Tooltip title="The whole trial in one file: data recipe, code, plan and every run, to be looked at and run again by another Ivrell">
            <Button disabled={making} onClick={() => void pack()}>
              Download the bundle
            </Button>
          </Tooltip>
          <Button type="primary" loading={making} onClick={() => void write()}>
            Download the report
          </Button>
        </div>
      }
    >
      <div data-testid="report">
        {summary && (
          <p className="report-summary">
            {summary.text}{" "}
            <Button
              size="small"
              type="text"
              icon={<CopyOutlined />}
              aria-label="Copy the paragraph"
              onClick={() =>
                void navigator.clipboard
                  .writeText(summary.text)
                  .then(() => message.success("Copied"))
              }
            />
          </p>
        )}
        <div className="report-choice">
          <span>The report as</span>
          <span>
            <Segmented
              size="small"
              aria-label="Form of the report"
              value={form}
              options={(Object.keys(FORMS) as Form[]).map((value) => ({
                value,
                label: FORMS[value].word,
              }))}
              onChange={setForm}
            />
            <br />
            <span className="small quiet">{FORMS[form].about}</span>
          </span>
          <span>Pairs shown in full</span>
          <Select
            className="grow"
            size="small"
            mode="multiple"
            aria-label="Pairs shown in full"
            placeholder="none"
            value={pairs}
            options={[...new Set([...pairs, ...offered])].map((value) => ({
              value,
              label: words(value),
            }))}
            onChange={setPairs}
          />
        </div>
        <p className="small quiet">
          It has the claims and notes of now, the answers with their evidence, how the data is made,
          the code, the machine, and how each figure was taken. Who reads it needs no Ivrell.
        </p>
        <Trouble error={trouble ?? untold} />
      </div>
    </Drawer>
  );
}
