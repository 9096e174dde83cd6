/** Live events: each names a topic that changed; what shows it asks anew, at most every 0.7 s. */
import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { changed, isTopic, type Topic } from "./topics";

const BATCH_MS = 700;

/** Follow the server's events while mounted. `listening` once they were asked for: what is fetched from then on misses
 * nothing, so pages wait for it and ask once. `lostSince` says since when the connection is lost. */
export function useLive(): { listening: boolean; lostSince: Date | null } {
  const client = useQueryClient();
  const [listening, setListening] = useState(false);
  const [lostSince, setLostSince] = useState<Date | null>(null);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    const ask = batchInvalidations(client);
    let wasLost = false;
    setListening(true);
    source.onopen = () => {
      // events were missed while it was lost
      if (wasLost) client.invalidateQueries();
      wasLost = false;
      setLostSince(null);
    };
    source.onerror = () => {
      wasLost = true;
      setLostSince((since) => since ?? new Date());
    };
    source.onmessage = (event) => {
      const { topic, id } = JSON.parse(event.data) as { topic: string; id: number | null };
      if (isTopic(topic)) ask(topic, id);
    };
    return () => source.close();
  }, [client]);
  return { listening, lostSince };
}

function batchInvalidations(client: QueryClient): (topic: Topic, id: number | null) => void {
  const due = new Map<string, [Topic, number | null]>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = () => {
    timer = undefined;
    for (const [topic, id] of due.values()) changed(client, topic, id);
    due.clear();
  };
  return (topic, id) => {
    due.set(`${topic} ${id}`, [topic, id]);
    timer ??= setTimeout(flush, BATCH_MS);
  };
}
