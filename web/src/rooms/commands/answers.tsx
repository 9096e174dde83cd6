/** What devices answered, put together; some of it becomes a filter, a group, or the audience of what comes next. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import clsx from "clsx";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { count, counted, percent } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { answers as answersQuery } from "./queries";

type Group = Schemas["AnswerGroupRow"];

/** What stands in place of an answer where there is none. */
export function answerWords(group: Pick<Group, "sort" | "label">): string {
  switch (group.sort) {
    case "done":
      return "done, without an answer";
    case "failed":
      return `failed: ${group.label}`;
    case "missed":
      return "missed: its time ran out";
    case "left":
      return "withdrawn or replaced";
    case "open":
      return "not ended yet";
    default:
      return group.label || "an empty text";
  }
}

const TONES: Partial<Record<Group["sort"], string>> = {
  failed: "bg-brick",
  missed: "hatched",
  left: "hatched",
  open: "bg-rule",
};

export function Answers({
  id,
  occurrences,
  chosen,
  onChoose,
}: {
  id: number;
  occurrences: number[];
  chosen: string | undefined;
  onChoose: (key: string | undefined) => void;
}) {
  const asked = useQuery(answersQuery(id, occurrences));
  const [ticked, setTicked] = useState<string[]>([]);
  return (
    <Loaded of={asked} what="The answers" rows={4}>
      {(data) => {
        const most = Math.max(1, ...data.groups.map((g) => g.count));
        const there = ticked.filter((key) => data.groups.some((g) => g.key === key));
        const devices = data.groups.filter((g) => there.includes(g.key)).reduce((n, g) => n + g.count, 0);
        if (data.groups.length === 0 && data.deleted === 0)
          return <p className="text-soft">This firing was for no device.</p>;
        return (
          <>
            {data.deleted > 0 && (
              <p className="mb-2 text-soft">
                What {counted(data.deleted, "device")} answered was deleted, as it is kept no longer. How many ended how
                stands above.
              </p>
            )}
            <ul className="max-h-72 overflow-auto">
              {data.groups.map((g) => (
                <li
                  key={g.key}
                  className={clsx(
                    "grid grid-cols-[1.25rem_minmax(8rem,22rem)_1fr_4.5rem_3.5rem] items-center gap-2 rounded-sm",
                    chosen === g.key && "bg-wash",
                  )}
                >
                  <input
                    type="checkbox"
                    className="accent-[var(--verdigris)]"
                    aria-label={`Choose: ${answerWords(g)}`}
                    disabled={g.count === 0}
                    checked={there.includes(g.key)}
                    onChange={(e) => setTicked(e.target.checked ? [...there, g.key] : there.filter((k) => k !== g.key))}
                  />
                  <button
                    type="button"
                    className="truncate py-0.5 text-left hover:underline"
                    aria-pressed={chosen === g.key}
                    title={g.examples.length ? `for one: ${g.examples.join(" · ")}` : "Show these devices below"}
                    onClick={() => onChoose(chosen === g.key ? undefined : g.key)}
                  >
                    {answerWords(g)}
                    {g.sort === "near" && <span className="text-soft"> (texts that differ in numbers)</span>}
                  </button>
                  <span className="h-3 overflow-hidden rounded-sm bg-paper" aria-hidden>
                    <span
                      className={clsx("block h-full rounded-sm", TONES[g.sort] ?? "bg-verdigris")}
                      style={{ width: `${(g.count / most) * 100}%` }}
                    />
                  </span>
                  <span className="text-right tabular-nums">{count(g.count)}</span>
                  <span className="text-right text-soft tabular-nums">
                    {data.devices ? percent(g.count / data.devices) : ""}
                  </span>
                </li>
              ))}
            </ul>
            <UseOf id={id} occurrences={data.occurrences} keys={there} devices={devices} />
          </>
        );
      }}
    </Loaded>
  );
}

function UseOf({
  id,
  occurrences,
  keys,
  devices,
}: {
  id: number;
  occurrences: number[];
  keys: string[];
  devices: number;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mayOperate = useMay("operate-all");
  const [then, setThen] = useState<"group" | "command" | "rollout" | null>(null);
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/schedules/{schedule_id}/answers/group", {
          params: { path: { schedule_id: id } },
          body: { occurrences, keys, name },
        }),
      ),
    onSuccess: (group) => {
      changed(client, "group");
      setThen(null);
      if (then === "command") navigate({ to: "/commands/new", search: { group: group.id } });
      else if (then === "rollout") navigate({ to: "/rollouts/new", search: { group: group.id } });
      else
        toast(
          <span>
            Made the group{" "}
            <Link to="/groups/$id" params={{ id: String(group.id) }} className="underline">
              {group.name}
            </Link>
          </span>,
        );
    },
  });
  if (!mayOperate) return null;
  return (
    <div className="mt-3 flex flex-wrap items-center gap-2">
      <span className="text-soft">
        {keys.length
          ? `${counted(devices, "device")} chosen:`
          : "Tick answers to make a group of their devices, or to go on with them."}
      </span>
      {keys.length > 0 && (
        <>
          <Button onClick={() => setThen("group")}>Make a group…</Button>
          <Button onClick={() => setThen("command")}>Next command…</Button>
          <Button onClick={() => setThen("rollout")}>Next rollout…</Button>
        </>
      )}
      <Modal
        open={then !== null}
        onClose={() => setThen(null)}
        title={`A static group of ${counted(devices, "device")}`}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) make.mutate();
          }}
        >
          <Labelled label="Name" hint="What devices answer later changes nothing in it.">
            <input className="field" maxLength={80} required value={name} onChange={(e) => setName(e.target.value)} />
          </Labelled>
          <div className="mt-2">
            <Problem error={make.error} />
          </div>
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => setThen(null)}>Cancel</Button>
            <Button kind="main" type="submit" disabled={!name.trim() || make.isPending}>
              {then === "group" ? "Make it" : `Make it, and compose the ${then}`}
            </Button>
          </div>
        </form>
      </Modal>
    </div>
  );
}
