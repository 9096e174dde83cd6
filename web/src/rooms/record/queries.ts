/** What the record asks, with its keys. The first word of a key is its topic (see api/topics). */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";
import type { RecordFilter } from "@/api/queries";

const SECOND = 1000;

export const record = (filter: RecordFilter) =>
  infiniteQueryOptions({
    queryKey: ["record", filter],
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/record", { params: { query: { ...filter, before: pageParam, limit: 100 } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
    refetchInterval: 10 * SECOND,
  });
/** How long things are kept. Sizes and ages change slowly. */
export const kept = queryOptions({
  queryKey: ["retention"],
  queryFn: () => body(api.GET("/api/v1/retention")),
  refetchInterval: 60 * SECOND,
});
/** What goes if a kind is kept for so many days. */
export const goesWith = (key: string, days: number) =>
  queryOptions({
    queryKey: ["retention", key, days],
    queryFn: () => body(api.GET("/api/v1/retention/{key}/preview", { params: { path: { key }, query: { days } } })),
    staleTime: 0,
    retry: false,
  });
export const recordChoices = queryOptions({
  queryKey: ["record-choices"],
  queryFn: () => body(api.GET("/api/v1/record/choices")),
  staleTime: 60 * SECOND,
});
/** Which firmware runs where. It is asked for again now and then, as devices call all the time. */
export const firmwareReport = queryOptions({
  queryKey: ["fleet", "firmware-report"],
  queryFn: () => body(api.GET("/api/v1/reports/firmware")),
  refetchInterval: 60 * SECOND,
});
/** What one has sent by mail. It is asked for again, as it goes out meanwhile. */
export const reportMails = queryOptions({
  queryKey: ["report-mails"],
  queryFn: () => body(api.GET("/api/v1/report-mails")),
  refetchInterval: 10 * SECOND,
});
