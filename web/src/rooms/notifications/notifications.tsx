/** Notifications: what one is told of, the rules by which people are told, and how their sending went. */
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import clsx from "clsx";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { changed } from "@/api/topics";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, fullInstant, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Empty, Problem } from "@/parts/controls";
import { More } from "@/parts/list-parts";
import { Loaded } from "@/parts/views";
import { ownMessages, sent as sentQuery } from "./queries";
import { Rules } from "./rules";

const route = getRouteApi("/notifications");
export type NotificationPart = "own" | "rules" | "sent";
const PARTS: [NotificationPart, string][] = [
  ["own", "For you"],
  ["rules", "Rules and channels"],
  ["sent", "What was sent"],
];

export function Notifications() {
  usePageTitle("Notifications");
  const part = route.useSearch().part ?? "own";
  const { data } = useQuery(session);
  const limits = useLimits();
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl">Notifications</h1>
        <nav aria-label="Parts" className="flex gap-1">
          {PARTS.filter(([key]) => key === "own" || limits === null).map(([key, words]) => (
            <Link
              key={key}
              to="/notifications"
              search={key === "own" ? {} : { part: key }}
              aria-current={part === key ? "page" : undefined}
              className={clsx(
                "rounded-sm border px-2 py-1",
                part === key ? "border-ink font-semibold" : "border-transparent text-soft",
              )}
            >
              {words}
            </Link>
          ))}
        </nav>
        <span className="ml-auto flex gap-4">
          {data?.demo && limits === null && (
            <Link to="/mail" className="slot">
              The demo's mail
            </Link>
          )}
          <Link to="/account" className="slot">
            How you are written to
          </Link>
        </span>
      </div>
      {part === "own" && <Own />}
      {part === "rules" && <Rules />}
      {part === "sent" && <Sent />}
    </div>
  );
}

function Own() {
  const client = useQueryClient();
  const asked = useInfiniteQuery(ownMessages);
  const latest = asked.data && Math.max(0, ...asked.data.pages.flatMap((p) => p.messages.map((m) => m.id)));
  const unread = asked.data?.pages[0]?.unread ?? 0;
  const read = useMutation({
    mutationFn: (upTo: number) => body(api.POST("/api/v1/own/messages/read", { body: { up_to: upTo } })),
    onSuccess: () => changed(client, "messages"),
  });
  return (
    <Loaded
      of={asked}
      what="Your messages"
      rows={6}
      isEmpty={(all) => all.pages[0]?.messages.length === 0}
      empty={
        <Empty title="You have been told of nothing">
          Rules say who is told of what; what a rule tells you stands here, and goes out by mail as you wish.
        </Empty>
      }
    >
      {(all) => {
        const rows = all.pages.flatMap((p) => p.messages);
        return (
          <>
            <div className="mb-2 flex min-h-[30px] items-center gap-3">
              <span className="text-soft">{unread ? `${count(unread)} unread` : "All read."}</span>
              {unread > 0 && latest !== undefined && latest > 0 && (
                <Button disabled={read.isPending} onClick={() => read.mutate(latest)}>
                  Mark all as read
                </Button>
              )}
              <Problem error={read.error} />
            </div>
            <ul className="rounded-md border border-rule bg-card" aria-label="Messages">
              {rows.map((m) => (
                <Row key={m.id} message={m} />
              ))}
            </ul>
            <More of={asked} shown={rows.length} all={rows.length + 1} what="messages and more" />
          </>
        );
      }}
    </Loaded>
  );
}

function Row({ message: m }: { message: Schemas["OwnMessage"] }) {
  const { now, zone } = useClock();
  return (
    <li className="flex items-baseline gap-3 border-rule border-b px-4 py-2 last:border-0">
      <span aria-hidden className={m.read_at ? "text-transparent" : "text-saffron-ink"}>
        ●
      </span>
      <Link to={m.path} className={clsx("min-w-0 flex-1 hover:underline", !m.read_at && "font-semibold")}>
        {m.text}
        {!m.read_at && <span className="sr-only">, unread</span>}
      </Link>
      {m.is_urgent && m.occasion === "opened" && <span className="text-brick">urgent</span>}
      <time className="text-soft" dateTime={m.at} title={fullInstant(m.at, zone)}>
        {instant(m.at, zone, now)}
      </time>
    </li>
  );
}

const STATES: Record<Schemas["SentMessage"]["state"], string> = {
  kept: "in the program only",
  waiting: "waiting",
  sent: "sent",
  failed: "given up",
  dropped: "over before it went out",
};

function Sent() {
  const asked = useQuery(sentQuery);
  const { now, zone } = useClock();
  const [open, setOpen] = useState<number | null>(null);
  return (
    <Loaded
      of={asked}
      what="What was sent"
      rows={6}
      empty={<Empty title="Nothing was sent yet">Mail and calls to channels are listed here with each try.</Empty>}
    >
      {(rows) => (
        <ul className="rounded-md border border-rule bg-card" aria-label="Sent">
          {rows.map((m) => (
            <li key={m.id} className="border-rule border-b px-4 py-2 last:border-0">
              <div className="grid grid-cols-[8rem_12rem_1fr_auto] items-baseline gap-3 max-md:grid-cols-1">
                <time className="text-soft" dateTime={m.made_at}>
                  {instant(m.made_at, zone, now)}
                </time>
                <strong>{m.to}</strong>
                <span>{m.text}</span>
                <span className={m.state === "failed" ? "text-brick" : "text-soft"}>
                  {STATES[m.state]}
                  {m.state === "waiting" && m.tries.length === 0 && Date.parse(m.due_at) > now.getTime() && (
                    <> until {instant(m.due_at, zone, now)}</>
                  )}
                  {m.tries.length > 0 && (
                    <>
                      {", "}
                      <button
                        type="button"
                        className="slot"
                        aria-expanded={open === m.id}
                        onClick={() => setOpen(open === m.id ? null : m.id)}
                      >
                        {m.tries.length === 1 ? "1 try" : `${m.tries.length} tries`}
                      </button>
                    </>
                  )}
                </span>
              </div>
              {open === m.id && (
                <ul className="mt-1 pl-4 text-soft">
                  {m.tries.map((t) => (
                    <li key={t.at}>
                      {instant(t.at, zone, now)} real time: {t.words}
                    </li>
                  ))}
                </ul>
              )}
            </li>
          ))}
        </ul>
      )}
    </Loaded>
  );
}
