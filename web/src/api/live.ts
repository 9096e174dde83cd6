/** Live events: each names a topic that changed; what shows it asks again, at most every 0.7 s. */
import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

const PATIENCE_MS = 700;

/** Follow the server's events while mounted; since when the connection is lost, or null. */
export function useLive(): Date | null {
  const client = useQueryClient();
  const [lostSince, setLostSince] = useState<Date | null>(null);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    const ask = gather(client);
    source.onopen = () => {
      setLostSince(null);
      ask("everything", null);
    };
    source.onerror = () => setLostSince((since) => since ?? new Date());
    source.onmessage = (event) => {
      const { topic, id } = JSON.parse(event.data) as { topic: string; id: number | null };
      ask(topic, id);
    };
    return () => source.close();
  }, [client]);
  return lostSince;
}

function gather(client: QueryClient): (topic: string, id: number | null) => void {
  const due = new Map<string, [string, number | null]>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = () => {
    timer = undefined;
    for (const [topic, id] of due.values()) {
      if (topic === "everything") client.invalidateQueries();
      else {
        client.invalidateQueries({ queryKey: id === null ? [topic] : [topic, id] });
        // what saving a rule would change is measured against the group's members
        client.invalidateQueries({
          predicate: (q) => topic === "group" && q.queryKey[0] === "preview" && q.queryKey[2] === id,
        });
        client.invalidateQueries({ queryKey: [topic, "list"] });
        client.invalidateQueries({ queryKey: ["now"] });
      }
    }
    due.clear();
  };
  return (topic, id) => {
    due.set(`${topic} ${id}`, [topic, id]);
    timer ??= setTimeout(flush, PATIENCE_MS);
  };
}
