/** What is registered on this machine for lanes to ask for by name: interpreters, servers, clusters. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useEffect } from "react";
import { api, taken } from "../api/client";
import { underWay } from "../ui/job";
import { FieldsForm } from "../ui/FieldsForm";
import { Trouble } from "../ui/Trouble";
import { plural } from "../ui/units";

type Entry = { name: string; place: string; words: string; problem: string };

type Props = {
  title: string;
  words: string;
  what: string;
  placeLabel: string;
  placeHint: string;
  /** A third field: what it is called, and what stands in it. */
  more?: { label: string; hint: string };
  read: () => Promise<Entry[]>;
  add: (name: string, place: string, more: string) => Promise<Entry[]>;
  remove: (name: string) => Promise<Entry[]>;
};

function Registry(props: Props) {
  const { title, words, what, placeLabel, placeHint, more, read, add, remove } = props;
  const cache = useQueryClient();
  const key = ["registry", what];
  const { data, error } = useQuery({ queryKey: key, queryFn: read });
  const adding = useMutation({
    mutationFn: ({ name = "", place = "", more: third = "" }: Record<string, string>) =>
      add(name, place, third),
    onSuccess: (found) => cache.setQueryData(key, found),
  });
  const removing = useMutation({
    mutationFn: remove,
    onSuccess: (found) => cache.setQueryData(key, found),
  });
  return (
    <>
      <h2>{title}</h2>
      <p className="quiet">{words}</p>
      <Trouble error={error ?? adding.error ?? removing.error} id={`${what}-problem`} />
      <table className="plain facts">
        <tbody>
          {data?.map((one) => (
            <tr key={one.name} data-testid={`${what}-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                {one.problem ? <span className="caution">{one.problem}</span> : one.words}{" "}
                <span className="quiet mono">{one.place}</span>
              </td>
              <td>
                <Button size="small" onClick={() => removing.mutate(one.name)}>
                  Forget
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <FieldsForm
        fields={[
          { key: "name", label: `Name of the ${what}`, hint: "its name" },
          { key: "place", label: `${placeLabel} of the ${what}`, hint: placeHint },
          ...(more ? [{ key: "more", ...more }] : []),
        ]}
        button="Register"
        id={`add-${what}`}
        pending={adding.isPending}
        onSubmit={(values, taken) => adding.mutate(values, { onSuccess: taken })}
      />
    </>
  );
}

type Runtime = {
  name: string;
  interpreter: string;
  implementation: string;
  version: string;
  packages: Record<string, string>;
  problem: string;
};

const interpreters = ({ runtimes }: { runtimes: Runtime[] }): Entry[] =>
  runtimes
    .filter((one) => !one.interpreter.endsWith(`/environments/${one.name}/bin/python`))
    .map((one) => ({
      name: one.name,
      place: one.interpreter,
      words: `${one.implementation} ${one.version}, ${plural(Object.keys(one.packages).length, "package")}`,
      problem: one.problem,
    }));

export function Runtimes() {
  return (
    <Registry
      title="Other interpreters"
      words="A lane in Python runs in one of them when its settings say runtime = “its name”: another implementation, or an environment with other versions of a library."
      what="interpreter"
      placeLabel="Path"
      placeHint="its full path, such as /usr/bin/pypy3"
      read={async () => interpreters(await taken(api.GET("/api/runtimes/")))}
      add={async (name, interpreter) =>
        interpreters(await taken(api.POST("/api/runtimes/", { body: { name, interpreter } })))
      }
      remove={async (name) =>
        interpreters(await taken(api.DELETE("/api/runtimes/", { params: { query: { name } } })))
      }
    />
  );
}

const MAKING_MS = 2_000;
const ENVIRONMENTS = ["environments"];

/** Environments: made here of packages, shown while they are made, told where they cannot be. */
export function Environments() {
  const cache = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ENVIRONMENTS,
    queryFn: () => taken(api.GET("/api/environments/")),
    refetchInterval: ({ state }) =>
      state.data?.makings.some((one) => underWay(one.state)) ? MAKING_MS : false,
  });
  const keep = (found: unknown) => {
    cache.setQueryData(ENVIRONMENTS, found);
    void cache.invalidateQueries({ queryKey: ["runtimes"] });
    void cache.invalidateQueries({ queryKey: ["registry", "interpreter"] });
  };
  const make = useMutation({
    mutationFn: ({ name = "", packages = "", python = "" }: Record<string, string>) =>
      taken(
        api.POST("/api/environments/", {
          body: { name, packages: packages.split(/[\s;]+/).filter(Boolean), python },
        }),
      ),
    onSuccess: keep,
  });
  const remove = useMutation({
    mutationFn: (gone: string) =>
      taken(api.DELETE("/api/environments/", { params: { query: { name: gone } } })),
    onSuccess: keep,
  });
  const stop = useMutation({
    mutationFn: (id: number) =>
      taken(api.POST("/api/queue/{id}/stop/", { params: { path: { id } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ENVIRONMENTS }),
  });
  const made = data?.environments.map((one) => one.name).join(" ");
  useEffect(() => {
    void cache.invalidateQueries({ queryKey: ["runtimes"] });
  }, [made, cache]);
  return (
    <>
      <h2>Environments</h2>
      <p className="quiet">
        Packages of their own for lanes in Python: the same lanes run in several of them, side by
        side, where a trial’s plan says “in the interpreters …”. Made with pip in the data folder.
      </p>
      <Trouble error={error ?? make.error ?? remove.error} id="environment-problem" />
      <table className="plain facts">
        <tbody>
          {data?.environments.map((one) => (
            <tr key={one.name} data-testid={`environment-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                {one.problem ? (
                  <span className="caution">{one.problem}</span>
                ) : (
                  <>
                    {one.implementation} {one.version}{" "}
                    <span className="quiet">
                      {Object.entries(one.packages)
                        .map(([of, version]) => `${of} ${version}`)
                        .join(", ")}
                    </span>
                  </>
                )}
              </td>
              <td>
                <Button size="small" onClick={() => remove.mutate(one.name)}>
                  Remove
                </Button>
              </td>
            </tr>
          ))}
          {data?.makings.map((one) => (
            <tr key={one.job} data-testid={`making-${one.name}`}>
              <th scope="row">{one.name}</th>
              <td>
                {underWay(one.state) ? (
                  <>
                    {one.state === "running" ? "being made" : one.state}{" "}
                    <span className="quiet mono">{one.lines.at(-1)}</span>
                  </>
                ) : (
                  <>
                    <span className="caution">
                      {one.message ? `${one.message.what} ${one.message.hint}` : one.state}
                    </span>
                    {one.lines.length > 0 && (
                      <details>
                        <summary className="small">what was said last</summary>
                        <pre className="small">{one.lines.join("\n")}</pre>
                      </details>
                    )}
                  </>
                )}
              </td>
              <td>
                {underWay(one.state) ? (
                  <Button size="small" onClick={() => stop.mutate(one.job)}>
                    Stop
                  </Button>
                ) : (
                  <Button size="small" onClick={() => remove.mutate(one.name)}>
                    Clear
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <FieldsForm
        fields={[
          { key: "name", label: "Name of the environment", hint: "its name" },
          {
            key: "packages",
            label: "Packages of the environment",
            hint: "packages, such as pandas==2.3.3 pyarrow",
          },
          {
            key: "python",
            label: "Interpreter of the environment",
            hint: "of this interpreter; Ivrell’s own unless given",
          },
        ]}
        button="Make"
        id="make-environment"
        pending={make.isPending}
        onSubmit={(values, taken) => make.mutate(values, { onSuccess: taken })}
      />
    </>
  );
}

type Server = { name: string; address: string; version: string; seen: boolean; problem: string };

const servers = ({ servers: found }: { servers: Server[] }): Entry[] =>
  found.map((one) => ({
    name: one.name,
    place: one.address,
    words: `${one.version}, ${one.seen ? "its work is measured" : "its CPU time and memory cannot be seen from here"}`,
    problem: one.problem,
  }));

export function Servers() {
  return (
    <Registry
      title="Database servers of your own"
      words="A lane runs on one of them, instead of a private server, when its settings say at = “its name”: any server with a driver for Python, by its URL. Ivrell makes databases of its own there and touches no others."
      what="server"
      placeLabel="Address"
      placeHint="its URL, such as mariadb://user@host:3306"
      more={{
        label: "Where the password of the server stands",
        hint: "password from env:NAME or file:PATH",
      }}
      read={async () => servers(await taken(api.GET("/api/servers/")))}
      add={async (name, address, password_from) =>
        servers(await taken(api.POST("/api/servers/", { body: { name, address, password_from } })))
      }
      remove={async (name) =>
        servers(await taken(api.DELETE("/api/servers/", { params: { query: { name } } })))
      }
    />
  );
}

type Cluster = {
  name: string;
  address: string;
  storage: string;
  words: string;
  problem: string;
};

const clusters = ({ clusters: found }: { clusters: Cluster[] }): Entry[] =>
  found.map((one) => ({
    name: one.name,
    place: one.address,
    words: one.storage ? `${one.words}; tables and answers on ${one.storage}` : one.words,
    problem: one.problem,
  }));

export function Clusters() {
  return (
    <Registry
      title="Places where Apache Spark runs"
      words="A lane of the engine spark runs there when its settings say at = “its name”; without, on this machine’s cores. standalone:2 is a cluster of two workers that Ivrell starts on this machine for the time of a trial. Where a storage is given that all of a cluster reaches, tables are made there, inside Spark, and large answers stay there. Settings of a place are given on the command line: ivrell clusters --add."
      what="cluster"
      placeLabel="Address"
      placeHint="standalone:2, spark://host:7077, yarn, sc://host"
      more={{
        label: "Storage of the cluster",
        hint: "storage, such as /shared or s3a://bucket (may be empty)",
      }}
      read={async () => clusters(await taken(api.GET("/api/clusters/")))}
      add={async (name, address, storage) =>
        clusters(
          await taken(
            api.POST("/api/clusters/", {
              body: {
                name,
                address,
                storage,
                settings: {},
                worker_cores: 1,
                worker_memory: "1536m",
              },
            }),
          ),
        )
      }
      remove={async (name) =>
        clusters(await taken(api.DELETE("/api/clusters/", { params: { query: { name } } })))
      }
    />
  );
}
