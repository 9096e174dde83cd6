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
export const recordChoices = queryOptions({
  queryKey: ["record-choices"],
  queryFn: () => body(api.GET("/api/v1/record/choices")),
  staleTime: 60 * SECOND,
});
