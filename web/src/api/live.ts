/** Live events: each names a topic that changed; what shows it asks anew, at most every 0.7 s. */
import { type Query, type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { heard, isTopic, type Topic } from "./topics";

const BATCH_MS = 700;

/** how long a page is out of sight before it stops listening */
const HIDDEN_MS = 3000;

/** Follow the server's events while mounted and in sight: a browser opens six connections to a server, and pages in the
 * background must not hold them all. What was missed meanwhile is asked for again. `listening` once they were asked
 * for: what is fetched from then on misses nothing, so pages wait for it and ask once. `lostSince` says since when the
 * connection is lost. */
export function useLive(): { listening: boolean; lostSince: Date | null } {
  const client = useQueryClient();
  const [listening, setListening] = useState(false);
  const [lostSince, setLostSince] = useState<Date | null>(null);
  useEffect(() => {
    const ask = batchInvalidations(client);
    let source: EventSource | null = null;
    let leaving: ReturnType<typeof setTimeout> | undefined;
    let missed = false;
    const listen = () => {
      source = new EventSource("/api/v1/events");
      source.onopen = () => {
        if (missed) client.invalidateQueries();
        missed = false;
        setLostSince(null);
      };
      source.onerror = () => {
        missed = true;
        setLostSince((since) => since ?? new Date());
      };
      source.onmessage = (event) => {
        const { topic, id } = JSON.parse(event.data) as { topic: string; id: number | null };
        if (isTopic(topic)) ask(topic, id);
      };
    };
    const leave = () => {
      source?.close();
      source = null;
      missed = true;
    };
    const follow = () => {
      clearTimeout(leaving);
      if (document.visibilityState === "hidden") leaving = setTimeout(leave, HIDDEN_MS);
      else if (!source) listen();
    };
    setListening(true);
    if (document.visibilityState === "hidden") missed = true;
    else listen();
    document.addEventListener("visibilitychange", follow);
    return () => {
      document.removeEventListener("visibilitychange", follow);
      clearTimeout(leaving);
      source?.close();
    };
  }, [client]);
  return { listening, lostSince };
}

/** Collects what one hears of and asks for it together; what was under way then is asked once more when it came. */
export function batchInvalidations(client: QueryClient): (topic: Topic, id: number | null) => void {
  const due = new Map<string, [Topic, number | null]>();
  let again: Query[] = [];
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = () => {
    again = heard(client, due.values(), again);
    due.clear();
    timer = again.length ? setTimeout(flush, BATCH_MS) : undefined;
  };
  return (topic, id) => {
    due.set(`${topic} ${id}`, [topic, id]);
    if (timer === undefined) timer = setTimeout(flush, BATCH_MS);
  };
}
