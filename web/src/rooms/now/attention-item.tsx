/** One attention item: what it is about, since when, who knows of it and looks after it, and what can be done with it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, instant, relative } from "@/lib/format";
import { Comments } from "@/parts/comments";
import { Button, Problem } from "@/parts/controls";
import { Menu, MenuItem, MenuLine } from "@/parts/menu";
import { ObjectLink } from "@/parts/object-link";
import { SharedCauses } from "./shared-causes";

type Item = Schemas["AttentionItem"];
type Person = Schemas["NamedPerson"];

/** A link to what an item is about: the quarantine, its object, or the devices that its rule lists. */
export function AboutLink({ item, className, children }: { item: Item; className?: string; children: ReactNode }) {
  if (item.kind === "quarantined")
    return (
      <Link to="/quarantine" className={className}>
        {children}
      </Link>
    );
  if (item.object_kind && item.kind !== "stopped-part")
    return (
      <ObjectLink kind={item.object_kind} id={item.object_id} className={className}>
        {children}
      </ObjectLink>
    );
  if (!item.rule) return <span className={className?.replace("hover:underline", "")}>{children}</span>;
  return (
    <Link to="/fleet" search={{ rule: item.rule }} className={className}>
      {children}
    </Link>
  );
}

/** Until when an item may be put off, by the clock of whoever does it. */
export function snoozes(now: Date, zone: string): [string, string][] {
  const at = DateTime.fromJSDate(now, { zone });
  const choices: [string, DateTime][] = [
    ["For an hour", at.plus({ hours: 1 })],
    ["Until tomorrow, 08:00", at.plus({ days: 1 }).startOf("day").set({ hour: 8 })],
    ["For a week", at.plus({ weeks: 1 })],
    ["For 30 days", at.plus({ days: 30 })],
  ];
  return choices.map(([words, until]) => [words, until.toUTC().toISO() ?? ""]);
}

export function AttentionItem({ item, people }: { item: Item; people: Person[] }) {
  const { now, zone } = useClock();
  const mayHandle = useMay("comment");
  const [isTalking, setTalking] = useState(false);
  const act = useAct(item);
  const isOver = item.closed_at !== null;
  return (
    <li className="rounded-md border border-rule bg-card px-4 py-3">
      <div className="flex flex-wrap items-start justify-between gap-x-4 gap-y-2">
        <div className="min-w-0 flex-1">
          <AboutLink item={item} className="font-semibold hover:underline">
            {item.text} {item.count !== null && <span className="ml-1">{count(item.count)}</span>}
          </AboutLink>
          <p className="text-soft">
            since {instant(item.opened_at, zone, now)}
            {!isOver && item.changed_at !== item.opened_at && `, changed ${relative(item.changed_at, now)}`}
            {item.closed_at && `, over ${instant(item.closed_at, zone, now)}`}
            {item.snoozed_until && !isOver && `, put off until ${instant(item.snoozed_until, zone, now)}`}
          </p>
          <SharedCauses item={item} />
          <p>
            {item.assigned_to ? (
              <>
                <strong>{item.assigned_to.name}</strong> looks after it
              </>
            ) : item.acknowledged_at ? (
              `${item.acknowledged_by?.name ?? "A script"} knows of it since ${instant(item.acknowledged_at, zone, now)}`
            ) : (
              !isOver && <span className="text-soft">Nobody has said that they know of it.</span>
            )}
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          {mayHandle && !isOver && (
            <>
              {!item.acknowledged_at && (
                <Button disabled={act.isPending} onClick={() => act.mutate({ kind: "acknowledge" })}>
                  Acknowledge
                </Button>
              )}
              <GiveTo item={item} people={people} onGive={(to) => act.mutate({ kind: "assign", to })} />
              {item.snoozed_until && Date.parse(item.snoozed_until) > now.getTime() ? (
                <Button disabled={act.isPending} onClick={() => act.mutate({ kind: "snooze", until: null })}>
                  Show again
                </Button>
              ) : (
                <Menu label="Put off">
                  {snoozes(now, zone).map(([words, until]) => (
                    <MenuItem key={words} onSelect={() => act.mutate({ kind: "snooze", until })}>
                      {words}
                    </MenuItem>
                  ))}
                </Menu>
              )}
            </>
          )}
          <Button kind="quiet" aria-expanded={isTalking} onClick={() => setTalking(!isTalking)}>
            Comments
          </Button>
        </div>
      </div>
      <Problem error={act.error} />
      {isTalking && <Comments about="attention" id={item.id} className="mt-3" />}
    </li>
  );
}

function GiveTo({ item, people, onGive }: { item: Item; people: Person[]; onGive: (to: string | null) => void }) {
  const { data } = useQuery(session);
  const mine = people.find((p) => p.email === data?.user?.email);
  const others = people.filter((p) => p !== mine && p.email !== item.assigned_to?.email);
  return (
    <Menu label={item.assigned_to ? "Give on" : "Give to"}>
      {mine && mine.email !== item.assigned_to?.email && (
        <>
          <MenuItem onSelect={() => onGive(mine.email)}>Me</MenuItem>
          <MenuLine />
        </>
      )}
      {others.map((p) => (
        <MenuItem key={p.email} onSelect={() => onGive(p.email)}>
          {p.name}
        </MenuItem>
      ))}
      {item.assigned_to && (
        <>
          <MenuLine />
          <MenuItem onSelect={() => onGive(null)}>Nobody</MenuItem>
        </>
      )}
    </Menu>
  );
}

type Act = { kind: "acknowledge" } | { kind: "assign"; to: string | null } | { kind: "snooze"; until: string | null };

function useAct(item: Item) {
  const client = useQueryClient();
  const by = { params: { path: { item_id: item.id } } };
  return useMutation({
    mutationFn: (act: Act) => {
      switch (act.kind) {
        case "acknowledge":
          return body(api.POST("/api/v1/attention/{item_id}/acknowledge", by));
        case "assign":
          return body(api.POST("/api/v1/attention/{item_id}/assign", { ...by, body: { to: act.to } }));
        case "snooze":
          return body(api.POST("/api/v1/attention/{item_id}/snooze", { ...by, body: { until: act.until } }));
      }
    },
    onSuccess: (_, act) => {
      changed(client, "attention");
      if (act.kind === "snooze" && act.until)
        toast(`“${item.text}” is put off for everybody, and comes back by itself.`);
    },
  });
}
