/** A column: its name, kind and settings as a line of words, each changed where it stands. */
import { DeleteOutlined, PlusOutlined } from "@ant-design/icons";
import { Button, Dropdown, Select } from "antd";
import type { LookColumn, LookTable } from "../../api/client";
import { InlineField } from "../../ui/InlineField";
import { asKind, asSpread, isAt, meant, written, type Editing } from "./editing";
import { Profile } from "./Profile";

type Props = { table: LookTable; column: LookColumn; place: number; editing: Editing };

export function ColumnLine({ table, column, place, editing }: Props) {
  const at = { table: table.table, column: place };
  const numbers = table.columns
    .filter((other) => ["sequence", "integer", "number", "derived"].includes(other.kind))
    .map((other) => other.name);
  const settings = editing.kinds.find((kind) => kind.kind === column.kind)?.settings ?? [];
  const given = settings.filter((setting) => setting.name in column.given);
  const missing = settings.filter((setting) => !(setting.name in column.given));
  const own = table.file !== null;
  const wrongAt = (field: string) =>
    editing.problem && isAt(editing.pending, table.table, place, field) ? editing.problem : null;
  const problem =
    editing.problem && editing.pending?.table === table.table && editing.pending.column === place
      ? editing.problem
      : null;
  const field = (name: string, type: string, value: unknown, wrap = (v: unknown): unknown => v) => (
    <InlineField
      value={written(value)}
      label={`${column.name}, ${name}`}
      id={`set-${table.table}-${column.name}-${name}`}
      numeric={type === "number" || type === "integer"}
      wrong={wrongAt(name.split(".")[0] ?? name)?.what}
      onTyping={(text) =>
        editing.tryOut(
          text === null
            ? null
            : { ...at, fields: { [name.split(".")[0] ?? name]: wrap(meant(type, text)) } },
        )
      }
      onTake={(text) =>
        editing.apply({ ...at, fields: { [name.split(".")[0] ?? name]: wrap(meant(type, text)) } })
      }
    />
  );
  const choice = (
    name: string,
    value: string,
    options: string[],
    take: (v: string) => Record<string, unknown>,
  ) => (
    <Select
      size="small"
      variant="borderless"
      className="inline-choice"
      suffixIcon={null}
      popupMatchSelectWidth={false}
      value={value}
      aria-label={`${column.name}, ${name}`}
      options={options.map((option) => ({ value: option, label: option }))}
      onChange={(next) => editing.apply({ ...at, fields: take(next) })}
    />
  );
  return (
    <div className="column" data-testid={`column-${table.table}-${column.name}`}>
      <span className="mono name cut" title={column.name}>
        {own ? column.name : field("name", "text", column.name)}
      </span>
      <span className="kind">
        {own ? (
          <span className="quiet">{column.settings}</span>
        ) : (
          <>
            <strong>
              {choice(
                "kind",
                column.kind,
                editing.kinds.map((kind) => kind.kind),
                (kind) => asKind(column, kind, editing.references, numbers),
              )}
            </strong>
            {given.map((setting) => {
              const value = column.given[setting.name];
              if (setting.type === "needle") {
                const needle = (value ?? {}) as { value?: unknown; at?: unknown };
                return (
                  <span key={setting.name} className="setting">
                    needle{" "}
                    {field("needle.value", "value", needle.value, (v) => ({ ...needle, value: v }))}{" "}
                    at {field("needle.at", "value", needle.at, (v) => ({ ...needle, at: v }))}
                    <Without name="needle" on={() => drop("needle")} />
                  </span>
                );
              }
              return (
                <span key={setting.name} className="setting">
                  {setting.type !== "choice" && `${setting.name.replace(/_/g, " ")} `}
                  {setting.type === "choice"
                    ? choice(setting.name, written(value), setting.choices, (next) =>
                        setting.name === "spread" ? asSpread(next) : { [setting.name]: next },
                      )
                    : setting.type === "boolean"
                      ? choice(setting.name, String(value), ["true", "false"], (next) => ({
                          [setting.name]: next === "true",
                        }))
                      : setting.name === "to"
                        ? choice("to", written(value), editing.references, (to) => ({ to }))
                        : field(setting.name, setting.type, value)}
                  {!setting.wanted && <Without name={setting.name} on={() => drop(setting.name)} />}
                </span>
              );
            })}
            <span className="column-tools">
              {missing.length > 0 && (
                <Dropdown
                  trigger={["click"]}
                  menu={{
                    items: missing.map((setting) => ({
                      key: setting.name,
                      label: setting.name.replace(/_/g, " "),
                    })),
                    onClick: ({ key }) => {
                      const setting = missing.find((one) => one.name === key);
                      if (setting) {
                        editing.apply({ ...at, fields: { [key]: first(setting, table.columns) } });
                      }
                    },
                  }}
                >
                  <Button
                    size="small"
                    type="text"
                    icon={<PlusOutlined />}
                    aria-label={`Set more of ${column.name}`}
                  />
                </Dropdown>
              )}
              <Button
                size="small"
                type="text"
                icon={<DeleteOutlined />}
                aria-label={`Take ${column.name} out`}
                onClick={() => editing.apply({ ...at, remove: true })}
              />
            </span>
          </>
        )}
        {problem && (
          <span className="small bad column-problem" role="alert">
            {problem.what} {problem.hint}
          </span>
        )}
      </span>
      <Profile profile={column.profile} />
    </div>
  );

  function drop(name: string) {
    editing.apply({ ...at, fields: { [name]: null } });
  }
}

function Without({ name, on }: { name: string; on: () => void }) {
  return (
    <button
      type="button"
      className="without"
      aria-label={`Leave ${name} out`}
      title="leave out"
      onClick={on}
    >
      ×
    </button>
  );
}

type Setting = Editing["kinds"][number]["settings"][number];

/** A first value for a setting that is added. */
function first(setting: Setting, columns: LookColumn[]): unknown {
  if (setting.name.endsWith("_share")) return 0.1;
  if (setting.type === "needle") return { value: sought(columns, setting), at: "middle" };
  if (setting.type === "boolean") return true;
  if (setting.type === "choice") return setting.choices[0];
  if (setting.name === "fields") return [{ name: "value", kind: "integer", low: 1, high: 100 }];
  if (setting.type === "list") return ["first", "second"];
  if (setting.type === "numbers") return [1, 2];
  if (setting.usual !== null && setting.usual !== undefined) return setting.usual;
  return setting.type === "text" || setting.type === "moment" ? "" : 1;
}

function sought(columns: LookColumn[], setting: Setting): unknown {
  const holder = columns.find((column) => setting.name in column.given);
  return holder?.profile.histogram ? 0 : "sought";
}
