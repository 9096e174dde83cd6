/** What the room of commands asks, with its keys. The first word of a key is its topic (see api/topics). */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body, type Schemas } from "@/api/client";
import type { ScheduleState } from "@/api/queries";

const SECOND = 1000;

export const schedules = (filter: { state?: ScheduleState; q?: string } = {}, limit = 100) =>
  infiniteQueryOptions({
    queryKey: ["schedule", "list", filter, limit],
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/schedules", { params: { query: { ...filter, limit, cursor: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
export const schedule = (id: number) =>
  queryOptions({
    queryKey: ["schedule", id],
    queryFn: () => body(api.GET("/api/v1/schedules/{schedule_id}", { params: { path: { schedule_id: id } } })),
    refetchInterval: 5 * SECOND,
  });
/** The sentence of a command as it is composed. The one before stays until it is known. */
export const draftSentence = (draft: Schemas["ScheduleDraftBodyRequest"]) =>
  queryOptions({
    queryKey: ["schedule-sentence", draft],
    queryFn: () => body(api.POST("/api/v1/schedules/sentence", { body: draft })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60 * SECOND,
  });
export const scheduleDeliveries = (id: number, phase: string) =>
  queryOptions({
    queryKey: ["schedule", id, "deliveries", phase],
    queryFn: () =>
      body(
        api.GET("/api/v1/schedules/{schedule_id}/deliveries", {
          params: { path: { schedule_id: id }, query: { phase, limit: 200 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
