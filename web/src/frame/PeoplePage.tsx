/** One's own account, tokens for programs, and for owners: who may come in, and who did what. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState } from "react";
import { api, taken, type Problem, type Schemas } from "../api/client";
import { FieldsForm } from "../ui/FieldsForm";
import { Trouble } from "../ui/Trouble";
import { ago, plural } from "../ui/units";

type People = Schemas["People"];
type Tokens = Schemas["TokenList"];
type Role = Schemas["PersonShape"]["role"];
type Scope = Schemas["TokenShape"]["scopes"][number];

const ROLES: { value: Role; label: string }[] = [
  { value: "viewer", label: "viewer: looks" },
  { value: "editor", label: "editor: changes and runs" },
  { value: "owner", label: "owner: lets in people, machines, servers too" },
];
const SCOPES: { value: Scope; label: string }[] = [
  { value: "read", label: "read" },
  { value: "change", label: "change comparisons" },
  { value: "run", label: "run" },
];

export function PeoplePage() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => taken(api.GET("/api/password/")) });
  const owner = me.data?.role === "owner";
  return (
    <main className="sheet-page wide">
      <h1>People and tokens</h1>
      <Trouble error={me.error} />
      {me.data && (
        <p>
          You are signed in as <strong>{me.data.name}</strong>, {me.data.role}.
        </p>
      )}
      {owner && <Everybody />}
      <TokenTable owner={owner} />
      {me.data && <Password has={me.data.has_password} />}
      {owner && <Audit />}
    </main>
  );
}

function Everybody() {
  const cache = useQueryClient();
  const people = useQuery({ queryKey: ["people"], queryFn: () => taken(api.GET("/api/people/")) });
  const [role, setRole] = useState<Role>("editor");
  const [link, setLink] = useState<{ name: string; text: string } | null>(null);
  const keep = (name: string) => (found: People) => {
    cache.setQueryData(["people"], found);
    void cache.invalidateQueries({ queryKey: ["audit"] });
    setLink(found.link ? { name, text: found.link } : null);
  };
  const add = useMutation<People, Problem, string>({
    mutationFn: (name) => taken(api.POST("/api/people/", { body: { name, role } })),
    onSuccess: (found, name) => keep(name)(found),
  });
  const change = useMutation<People, Problem, { name: string; role?: Role; new_link?: boolean }>({
    mutationFn: (body) => taken(api.PATCH("/api/people/", { body })),
    onSuccess: (found, body) => keep(body.name)(found),
  });
  const remove = useMutation<People, Problem, string>({
    mutationFn: (name) => taken(api.DELETE("/api/people/", { params: { query: { name } } })),
    onSuccess: keep(""),
  });
  return (
    <>
      <h2>People</h2>
      <Trouble
        error={people.error ?? add.error ?? change.error ?? remove.error}
        id="people-problem"
      />
      <table className="plain facts">
        <tbody>
          {people.data?.people.map((one) => (
            <tr key={one.name} data-testid={`person-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                <Select
                  size="small"
                  value={one.role}
                  options={ROLES}
                  aria-label={`Role of ${one.name}`}
                  popupMatchSelectWidth={false}
                  onChange={(given) => change.mutate({ name: one.name, role: given })}
                />
              </td>
              <td className="quiet">
                {one.seen_at ? `signed in ${ago(one.seen_at)}` : "has not signed in yet"}
                {one.tokens > 0 && `, ${plural(one.tokens, "token")}`}
              </td>
              <td>
                <Button
                  size="small"
                  onClick={() => change.mutate({ name: one.name, new_link: true })}
                >
                  New link
                </Button>{" "}
                <Button size="small" onClick={() => remove.mutate(one.name)}>
                  Let out
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {link && (
        <div className="joining" data-testid="person-link">
          Give {link.name} this link. It signs in once, within a day, and is told here once:
          <pre>{link.text}</pre>
        </div>
      )}
      <div className="row registry-form">
        <Select
          size="small"
          value={role}
          options={ROLES}
          aria-label="Role of whom is let in"
          popupMatchSelectWidth={false}
          onChange={setRole}
        />
        <FieldsForm
          fields={[{ key: "name", label: "Name of whom is let in", hint: "name" }]}
          button="Let in"
          id="add-person"
          pending={add.isPending}
          onSubmit={({ name = "" }, done) => add.mutate(name, { onSuccess: done })}
        />
      </div>
    </>
  );
}

function TokenTable({ owner }: { owner: boolean }) {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => taken(api.GET("/api/tokens/")) });
  const [scopes, setScopes] = useState<Scope[]>(["read"]);
  const [made, setMade] = useState("");
  const keep = (found: Tokens) => {
    cache.setQueryData(["tokens"], found);
    void cache.invalidateQueries({ queryKey: ["audit"] });
    setMade(found.token ?? "");
  };
  const make = useMutation<Tokens, Problem, Record<string, string>>({
    mutationFn: ({ name = "", days = "" }) =>
      taken(api.POST("/api/tokens/", { body: { name, scopes, days: days ? Number(days) : 90 } })),
    onSuccess: keep,
  });
  const back = useMutation<Tokens, Problem, number>({
    mutationFn: (id) => taken(api.DELETE("/api/tokens/", { params: { query: { id } } })),
    onSuccess: keep,
  });
  return (
    <>
      <h2>Tokens</h2>
      <p className="quiet">
        A program shows one as <code className="mono">Authorization: Bearer TOKEN</code>. It may
        what its scopes name, and never more than whom it is of.
      </p>
      <Trouble error={tokens.error ?? make.error ?? back.error} id="tokens-problem" />
      <table className="plain facts">
        <tbody>
          {tokens.data?.tokens.map((one) => (
            <tr key={one.id} data-testid={`token-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                {one.scopes.join(", ")}
                {owner && <span className="quiet"> of {one.of}</span>}
              </td>
              <td className="quiet">
                {one.used_at ? `used ${ago(one.used_at)}` : "not used yet"}
                {one.expires_at && `, until ${new Date(one.expires_at).toLocaleDateString()}`}
              </td>
              <td>
                <Button size="small" onClick={() => back.mutate(one.id)}>
                  Take back
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {made && (
        <div className="joining">
          This token is told here once:
          <pre data-testid="new-token">{made}</pre>
        </div>
      )}
      <div className="row registry-form">
        <Select
          size="small"
          mode="multiple"
          value={scopes}
          options={SCOPES}
          aria-label="Scopes of the token"
          popupMatchSelectWidth={false}
          className="scopes"
          onChange={setScopes}
        />
        <FieldsForm
          fields={[
            { key: "name", label: "Name of the token", hint: "what it is for" },
            { key: "days", label: "Days that it holds", hint: "days (90)" },
          ]}
          button="Make"
          id="make-token"
          pending={make.isPending}
          onSubmit={(values, done) => make.mutate(values, { onSuccess: done })}
        />
      </div>
    </>
  );
}

function Password({ has }: { has: boolean }) {
  const cache = useQueryClient();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const put = useMutation<Schemas["Me"], Problem>({
    mutationFn: () => taken(api.PUT("/api/password/", { body: { old, new: fresh } })),
    onSuccess: (me) => {
      cache.setQueryData(["me"], me);
      setOld("");
      setFresh("");
    },
  });
  return (
    <>
      <h2>Password</h2>
      <Trouble error={put.error} id="password-problem" />
      <form
        className="row registry-form"
        onSubmit={(event) => {
          event.preventDefault();
          put.mutate();
        }}
      >
        {has && (
          <Input
            size="small"
            type="password"
            value={old}
            aria-label="Password until now"
            placeholder="until now"
            autoComplete="current-password"
            onChange={(event) => setOld(event.target.value)}
          />
        )}
        <Input
          size="small"
          type="password"
          value={fresh}
          aria-label="New password"
          placeholder="new, ten characters or more"
          autoComplete="new-password"
          onChange={(event) => setFresh(event.target.value)}
        />
        <Button size="small" htmlType="submit" loading={put.isPending} data-testid="set-password">
          {has ? "Change" : "Set"}
        </Button>
        {put.isSuccess && (
          <span className="quiet">It holds from now on; other sessions ended.</span>
        )}
      </form>
    </>
  );
}

function Audit() {
  const [before, setBefore] = useState<number[]>([]);
  const last = before.at(-1);
  const page = useQuery({
    queryKey: ["audit", last],
    queryFn: () => taken(api.GET("/api/audit/", { params: { query: { before: last } } })),
  });
  const entries = page.data?.entries ?? [];
  const oldest = entries.at(-1)?.id;
  return (
    <>
      <h2>Who did what</h2>
      <Trouble error={page.error} />
      <table className="plain facts audit" data-testid="audit">
        <thead>
          <tr>
            {["when", "who", "by", "what", "about", ""].map((head) => (
              <th key={head} scope="col">
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {entries.map((one) => (
            <tr key={one.id}>
              <td title={one.at}>{ago(one.at)}</td>
              <td>{one.who || "nobody"}</td>
              <td>{one.by}</td>
              <td className="mono small">
                {one.what}
                {one.times > 1 && ` (${one.times} times)`}
              </td>
              <td>{one.subject}</td>
              <td>{one.status >= 400 && <span className="caution">refused, {one.status}</span>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        {before.length > 0 && (
          <Button size="small" onClick={() => setBefore(before.slice(0, -1))}>
            Newer
          </Button>
        )}{" "}
        {page.data?.more && oldest !== undefined && (
          <Button size="small" onClick={() => setBefore([...before, oldest])}>
            Older
          </Button>
        )}
      </p>
    </>
  );
}
