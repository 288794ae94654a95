/** The sample that the recipe was shaped after, beside what is generated: column by column. */
import type { Schemas } from "../../api/client";
import { figures } from "../../ui/units";
import { Profile } from "./Profile";

const FAR = 0.1;

export function SampleView({ sample }: { sample: Schemas["SampleShape"] }) {
  const tables = [...new Set(sample.columns.map((column) => column.table))];
  return (
    <div className="sample-view" data-testid="sample-view">
      <p className="small quiet">
        Shapes only: no value of your files is kept. The distance is 0 when both are shaped alike
        and 1 when they have nothing in common.
        {sample.recipe_changed && " The recipe has changed since; these are of the first one."}
      </p>
      {tables.map((table) => (
        <section key={table}>
          <h3>{table}</h3>
          <div className="sample-line small quiet">
            <span>column</span>
            <span>your sample</span>
            <span>generated</span>
            <span>distance, and what was fitted</span>
          </div>
          {sample.columns
            .filter((column) => column.table === table)
            .map((column) => (
              <div key={column.name} className="sample-line">
                <span className="mono name cut" title={column.name}>
                  {column.name}
                </span>
                <Profile profile={column.sample} narrow />
                <Profile profile={column.generated} narrow />
                <span className="small">
                  {column.distance !== null && (
                    <strong className={column.distance > FAR ? "caution" : ""}>
                      {figures(column.distance, 2)}
                    </strong>
                  )}{" "}
                  <span className="quiet">{column.note}</span>
                </span>
              </div>
            ))}
        </section>
      ))}
    </div>
  );
}
