/** Bringing devices in from a file: what it would do is shown first; nothing is written until it is accepted. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { Fragment, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { attributes as attributesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Bar, Button, Card, Confirm, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { importOf, savedMappings } from "./queries";
import { RecentImports, STATES, UndoImport } from "./recent-imports";
import { RepeatedImports } from "./repeated-imports";

const importRoute = getRouteApi("/import/$id");

type Import = Schemas["ImportRow"];
const OWN_FIELDS = [
  ...["uid", "name", "serial", "model", "hardware", "site", "custodian", "tag", "admission"],
  ...["own_time_zone", "check_in_interval"],
];

export function ImportPage() {
  const { id } = importRoute.useParams();
  usePageTitle("Import devices");
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <h1 className="mb-3 text-2xl">Import devices</h1>
      {id === "new" ? (
        <div className="max-w-[76rem] space-y-4">
          <Choose />
          <RepeatedImports />
          <RecentImports />
        </div>
      ) : (
        <Brought id={Number(id)} />
      )}
    </div>
  );
}

function Choose() {
  const navigate = useNavigate();
  const upload = useMutation({
    mutationFn: (file: File) =>
      body(
        api.POST("/api/v1/imports", {
          body: { file: file as unknown as string },
          bodySerializer: ({ file: given }: { file: string }) => {
            const form = new FormData();
            form.append("file", given);
            return form;
          },
        }),
      ),
    onSuccess: (made) => navigate({ to: "/import/$id", params: { id: String(made.id) } }),
  });
  return (
    <Card className="max-w-[44rem]">
      <p className="mb-3">
        A CSV, XLSX or JSON-lines file with a line for each device. Its columns are matched by name:{" "}
        {OWN_FIELDS.map((f) => (
          <Fragment key={f}>
            <code className="font-mono text-xs">{f}</code>{" "}
          </Fragment>
        ))}
        and every{" "}
        <Link to="/library" search={{ shelf: "attributes" }} className="slot">
          attribute
        </Link>
        . A file exported from Fleet can be imported again.
      </p>
      <input
        type="file"
        aria-label="File of devices"
        accept=".csv,.tsv,.txt,.xlsx,.xlsm,.jsonl,.ndjson,.json"
        disabled={upload.isPending}
        onChange={(e) => e.target.files?.[0] && upload.mutate(e.target.files[0])}
      />
      {upload.isPending && <p className="mt-2 text-soft">Reading…</p>}
      <div className="mt-2">
        <Problem error={upload.error} />
      </div>
    </Card>
  );
}

function Brought({ id }: { id: number }) {
  const asked = useQuery(importOf(id));
  return (
    <Loaded of={asked} what={`Import ${id}`} rows={8}>
      {(data) => (
        <div className="grid max-w-[76rem] grid-cols-[1fr_20rem] items-start gap-4 max-lg:grid-cols-1">
          <div className="space-y-4">
            <Outcome data={data} />
            {data.wrong_count > 0 && <WrongRows data={data} />}
          </div>
          {data.headings.length > 0 && <Mapping key={data.id} data={data} />}
        </div>
      )}
    </Loaded>
  );
}

function Outcome({ data }: { data: Import }) {
  const client = useQueryClient();
  const path = { import_id: data.id };
  const again = (made: Import) => client.setQueryData(importOf(data.id).queryKey, made);
  const accept = useMutation({
    mutationFn: (all: boolean) =>
      body(api.POST("/api/v1/imports/{import_id}/accept", { params: { path }, body: { all_or_nothing: all } })),
    onSuccess: again,
  });
  const cancel = useMutation({
    mutationFn: () => body(api.POST("/api/v1/imports/{import_id}/cancel", { params: { path } })),
    onSuccess: again,
  });
  const good = data.new_count + data.changed_count;
  const numbers: [string, number, string][] = [
    ["new", data.new_count, "text-verdigris"],
    ["changed", data.changed_count, "text-saffron-ink"],
    ["unchanged", data.unchanged_count, "text-soft"],
    ["wrong", data.wrong_count, data.wrong_count ? "text-brick" : "text-soft"],
  ];
  return (
    <Card title={data.file_name} aside={STATES[data.state]}>
      {data.state === "checking" ? (
        <p aria-live="polite">
          Checking… {data.checked_count > 0 && `${counted(data.checked_count, "row")} so far. Nothing is written yet.`}
        </p>
      ) : (
        <>
          <dl className="mb-3 flex gap-8">
            {numbers.map(([words, n, tone]) => (
              <div key={words}>
                <dd className={`font-bold font-display text-2xl ${tone}`}>{count(n)}</dd>
                <dt className="text-soft">{words}</dt>
              </div>
            ))}
          </dl>
          <p className="mb-3 text-soft" aria-live="polite">
            {data.state === "checked" && `${counted(data.row_count, "row")} were checked; nothing is written yet.`}
            {data.state === "done" && (data.reason || `${counted(data.written_count, "device")} written.`)}
            {data.state === "undone" && "Undone: its devices are as they were before."}
            {data.state === "cancelled" && `Cancelled; ${counted(data.written_count, "device")} had been written.`}
            {data.state === "failed" && `Failed: ${data.reason}`}
          </p>
        </>
      )}
      {data.state === "applying" && (
        <div className="mb-3" aria-live="polite">
          <Bar share={good ? data.written_count / good : 0} label={`${data.written_count} of ${good} written`} />
          <p className="text-soft">
            {data.all_or_nothing ? "Writing as one step…" : `${count(data.written_count)} of ${count(good)} written`}
          </p>
        </div>
      )}
      <Problem error={accept.error ?? cancel.error} />
      <div className="flex gap-2">
        {data.state === "checked" && data.wrong_count === 0 && (
          <Button kind="main" disabled={!good || accept.isPending} onClick={() => accept.mutate(true)}>
            {good ? `Write ${counted(good, "device")}` : "Nothing is new or different"}
          </Button>
        )}
        {data.state === "checked" && data.wrong_count > 0 && (
          <Confirm
            trigger={
              <Button kind="main" disabled={!good}>
                Import the good rows only…
              </Button>
            }
            title={`Write ${counted(good, "device")} and leave ${counted(data.wrong_count, "row")} out?`}
            action={`Write ${counted(good, "device")}`}
            onConfirm={() => accept.mutate(false)}
          >
            {counted(data.wrong_count, "row")} with something wrong are not taken. Correct them in the file and import
            it again: what is written by then stays as it is.
          </Confirm>
        )}
        {["checking", "checked", "applying"].includes(data.state) && (
          <Button onClick={() => cancel.mutate()}>Cancel</Button>
        )}
        {!["checking", "applying"].includes(data.state) && (
          <Link to="/import/$id" params={{ id: "new" }} className="slot self-center">
            Another file
          </Link>
        )}
        {data.state === "done" && (
          <Link to="/fleet" search={{}} className="slot self-center">
            To the fleet
          </Link>
        )}
        <UndoImport id={data.id} state={data.state} written={data.written_count} />
      </div>
    </Card>
  );
}

function WrongRows({ data }: { data: Import }) {
  return (
    <Card
      title={`${counted(data.wrong_count, "row")} to correct`}
      aside={
        <a className="slot" href={`/api/v1/imports/${data.id}/errors`} download>
          As a file
        </a>
      }
    >
      <div className="max-h-[24rem] overflow-auto">
        <table className="w-full">
          <thead className="text-left text-soft">
            <tr>
              {["Row", "Column", "Value", "Error"].map((h) => (
                <th key={h} className="pr-4 font-normal">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.wrong.map((w) => (
              <tr key={`${w.row}:${w.column}`} className="border-rule border-t align-top">
                <td className="py-1 pr-4">{w.row}</td>
                <td className="py-1 pr-4 font-mono">{w.column}</td>
                <td className="py-1 pr-4 font-mono text-brick">{w.value || "(empty)"}</td>
                <td className="py-1">{w.reason}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {data.wrong.length >= 200 && <p className="text-soft">The first 200; the file has them all.</p>}
    </Card>
  );
}

function Mapping({ data }: { data: Import }) {
  const client = useQueryClient();
  const { data: attributes } = useQuery(attributesQuery);
  const choices = [...OWN_FIELDS, ...(attributes?.map((a) => a.key) ?? [])];
  const map = useMutation({
    mutationFn: (mapping: Record<string, string>) =>
      body(api.PATCH("/api/v1/imports/{import_id}", { params: { path: { import_id: data.id } }, body: { mapping } })),
    onSuccess: (made) => client.setQueryData(importOf(data.id).queryKey, made),
  });
  const change = (heading: string, key: string) => {
    const rest = Object.entries(data.mapping).filter(([h, k]) => h !== heading && k !== key);
    map.mutate(Object.fromEntries(key ? [...rest, [heading, key]] : rest));
  };
  return (
    <Card title="What the columns mean">
      <div className="grid grid-cols-2 items-center gap-x-3 gap-y-1.5">
        {data.headings.map((h) => (
          <label key={h} className="contents">
            <span className="truncate">{h}</span>
            <select
              className="field"
              value={data.mapping[h] ?? ""}
              disabled={data.state !== "checked" || map.isPending}
              onChange={(e) => change(h, e.target.value)}
            >
              <option value="">not taken</option>
              {choices.map((c) => (
                <option key={c}>{c}</option>
              ))}
            </select>
          </label>
        ))}
      </div>
      <Problem error={map.error} />
      <KeepMapping data={data} onUse={(mapping) => map.mutate(mapping)} />
      <p className="mt-2 text-soft text-xs">
        An empty cell clears an attribute, a site or a custodian. What devices report themselves is not taken from
        files.
      </p>
    </Card>
  );
}

/** What the columns mean, kept under a name: used by itself for a file with the same columns, or by a press. */
function KeepMapping({ data, onUse }: { data: Import; onUse: (mapping: Record<string, string>) => void }) {
  const client = useQueryClient();
  const { data: kept } = useQuery(savedMappings);
  const [name, setName] = useState("");
  const again = () => changed(client, "import");
  const keep = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/imports/{import_id}/save-mapping", {
          params: { path: { import_id: data.id } },
          body: { name },
        }),
      ),
    onSuccess: (made) => {
      setName("");
      again();
      toast(`Saved as “${made.name}”; a file with the same columns is read by it`);
    },
  });
  const forget = useMutation({
    mutationFn: (id: number) =>
      body(api.DELETE("/api/v1/import-mappings/{mapping_id}", { params: { path: { mapping_id: id } } })),
    onSuccess: again,
  });
  const usable = (mapping: Record<string, string>) =>
    Object.fromEntries(Object.entries(mapping).filter(([h, k]) => k && data.headings.includes(h)));
  return (
    <div className="mt-3 space-y-1 border-rule border-t pt-2">
      {kept?.map((k) => (
        <p key={k.id} className="flex items-baseline gap-2">
          <span className="mr-auto truncate">{k.name}</span>
          <Button kind="quiet" disabled={data.state !== "checked"} onClick={() => onUse(usable(k.mapping))}>
            Use
          </Button>
          <Button kind="quiet" className="text-brick!" onClick={() => forget.mutate(k.id)}>
            Delete
          </Button>
        </p>
      ))}
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim()) keep.mutate();
        }}
      >
        <input
          className="field min-w-0 flex-1"
          aria-label="Name to keep these columns under"
          placeholder="save them as…"
          value={name}
          maxLength={80}
          onChange={(e) => setName(e.target.value)}
        />
        <Button type="submit" disabled={!name.trim() || Object.keys(data.mapping).length === 0 || keep.isPending}>
          Keep
        </Button>
      </form>
      <Problem error={keep.error ?? forget.error} />
    </div>
  );
}
