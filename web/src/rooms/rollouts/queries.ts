/** What the room of rollouts asks, with its keys. The first word of a key is its topic (see api/topics). */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body, type Schemas } from "@/api/client";
import type { DeliveryFilter, Place, Stage } from "@/api/queries";

const SECOND = 1000;

/** Rollouts page by page, the newest first; `limit` is the size of a page. */
export const rollouts = (filter: { stage?: Stage; q?: string } = {}, limit = 100) =>
  infiniteQueryOptions({
    queryKey: ["rollout", "list", filter, limit],
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/rollouts", { params: { query: { ...filter, limit, cursor: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
const ofRollout = (id: number) => ({ params: { path: { rollout_id: id } } });
export const rollout = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}", ofRollout(id))),
    refetchInterval: 5 * SECOND,
  });
/** The sentence of a draft as it is composed. Of the draft before it stays until it is known. */
export const draftSentence = (said: Schemas["RolloutSentenceBodyRequest"]) =>
  queryOptions({
    queryKey: ["rollout-sentence", said],
    queryFn: () => body(api.POST("/api/v1/rollouts/sentence", { body: said })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60 * SECOND,
  });
/** The hours that a draft has in which nobody chose any. */
export const usualHours = (asked: Schemas["UsualHoursBodyRequest"]) =>
  queryOptions({
    queryKey: ["usual-hours", asked],
    queryFn: () => body(api.POST("/api/v1/rollouts/usual-hours", { body: asked })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60 * SECOND,
  });
export const ringDevices = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "marks"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/ring-devices", ofRollout(id))),
  });
export const progress = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "progress"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/progress", ofRollout(id))),
  });
export const rolloutForecast = (id: number, failurePct?: number) =>
  queryOptions({
    queryKey: ["forecast", id, failurePct],
    queryFn: () =>
      body(
        api.GET("/api/v1/rollouts/{rollout_id}/forecast", {
          params: { path: { rollout_id: id }, query: { failure_pct: failurePct } },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 30 * SECOND,
    retry: false,
    enabled: id > 0,
  });
export const commonCauses = (id: number, failed: number) =>
  queryOptions({
    queryKey: ["rollout-shared", id, failed],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/common-causes", ofRollout(id))),
    enabled: failed > 0,
    placeholderData: keepPreviousData,
    staleTime: 30 * SECOND,
  });
export const rolloutTimeline = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "timeline"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/timeline", ofRollout(id))),
  });
export const rolloutFreezes = (id: number) =>
  queryOptions({
    queryKey: ["freezes", "rollout", id],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/freezes", ofRollout(id))),
  });
export const rolloutBreakdown = (id: number, by: Place) =>
  queryOptions({
    queryKey: ["rollout", id, "breakdown", by],
    queryFn: () =>
      body(
        api.GET("/api/v1/rollouts/{rollout_id}/breakdown", {
          params: { path: { rollout_id: id }, query: { by } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
export const rolloutReport = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "report"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/report", ofRollout(id))),
    enabled: id > 0,
  });
export const rolloutDeliveries = (id: number, filter: DeliveryFilter) =>
  infiniteQueryOptions({
    queryKey: ["rollout", id, "deliveries", filter],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/rollouts/{rollout_id}/deliveries", {
          params: { path: { rollout_id: id }, query: { ...filter, limit: 100, cursor: pageParam } },
        }),
      ),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
