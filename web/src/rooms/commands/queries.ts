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
/** What a draft would do; in place of the schedule `id`, where it is a change of one. */
export const preview = (draft: Schemas["ScheduleDraftBodyRequest"], isAsked: boolean) =>
  queryOptions({
    queryKey: ["schedule-preview", draft],
    queryFn: () => body(api.POST("/api/v1/schedules/preview", { body: draft })),
    enabled: isAsked,
    retry: false,
    placeholderData: keepPreviousData,
  });
export const changePreview = (id: number, draft: Schemas["ScheduleDraftBodyRequest"], isAsked: boolean) =>
  queryOptions({
    queryKey: ["schedule-preview", id, draft],
    queryFn: () =>
      body(api.POST("/api/v1/schedules/{schedule_id}/preview", { params: { path: { schedule_id: id } }, body: draft })),
    enabled: isAsked,
    retry: false,
    placeholderData: keepPreviousData,
  });

export interface Firings {
  /** ids of firings; those of the latest time if empty */
  occurrences: number[];
  answer?: string;
  phase?: string;
}

const asked = (firings: Firings) => ({
  occurrence: firings.occurrences.join(",") || undefined,
  answer: firings.answer,
  phase: firings.phase,
});

export const scheduleDeliveries = (id: number, firings: Firings) =>
  queryOptions({
    queryKey: ["schedule", id, "deliveries", firings],
    queryFn: () =>
      body(
        api.GET("/api/v1/schedules/{schedule_id}/deliveries", {
          params: { path: { schedule_id: id }, query: { ...asked(firings), limit: 200 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
export const answers = (id: number, occurrences: number[]) =>
  queryOptions({
    queryKey: ["schedule", id, "answers", occurrences],
    queryFn: () =>
      body(
        api.GET("/api/v1/schedules/{schedule_id}/answers", {
          params: { path: { schedule_id: id }, query: asked({ occurrences }) },
        }),
      ),
    placeholderData: keepPreviousData,
  });
export const howItWent = (id: number) =>
  queryOptions({
    queryKey: ["schedule", id, "record"],
    queryFn: () => body(api.GET("/api/v1/schedules/{schedule_id}/record", { params: { path: { schedule_id: id } } })),
  });
export const output = (delivery: number, q: string) =>
  queryOptions({
    queryKey: ["output", delivery, q],
    queryFn: () =>
      body(
        api.GET("/api/v1/deliveries/{delivery_id}/output", {
          params: { path: { delivery_id: delivery }, query: { q: q || undefined } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
export const comparedOutput = (delivery: number) =>
  queryOptions({
    queryKey: ["output", delivery, "compared"],
    queryFn: () =>
      body(api.GET("/api/v1/deliveries/{delivery_id}/output/compare", { params: { path: { delivery_id: delivery } } })),
  });
