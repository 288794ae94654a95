/** What is registered on this machine for lanes to ask for by name: interpreters, servers, clusters. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useState } from "react";
import { api, taken } from "../api/client";
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
  const [name, setName] = useState("");
  const [place, setPlace] = useState("");
  const [third, setThird] = useState("");
  const adding = useMutation({
    mutationFn: () => add(name, place, third),
    onSuccess: (found) => {
      cache.setQueryData(key, found);
      setName("");
      setPlace("");
      setThird("");
    },
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
      <form
        className="row registry-form"
        onSubmit={(event) => {
          event.preventDefault();
          adding.mutate();
        }}
      >
        <Input
          size="small"
          value={name}
          aria-label={`Name of the ${what}`}
          placeholder="its name"
          onChange={(event) => setName(event.target.value)}
        />
        <Input
          size="small"
          value={place}
          aria-label={`${placeLabel} of the ${what}`}
          placeholder={placeHint}
          onChange={(event) => setPlace(event.target.value)}
        />
        {more && (
          <Input
            size="small"
            value={third}
            aria-label={more.label}
            placeholder={more.hint}
            onChange={(event) => setThird(event.target.value)}
          />
        )}
        <Button
          size="small"
          htmlType="submit"
          loading={adding.isPending}
          data-testid={`add-${what}`}
        >
          Register
        </Button>
      </form>
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
  runtimes.map((one) => ({
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
