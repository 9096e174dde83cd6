/** What Now asks, with its keys. The first word of a key is its topic (see api/topics). */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";

const SECOND = 1000;

export const quarantine = queryOptions({
  queryKey: ["attention", "quarantine"],
  queryFn: () => body(api.GET("/api/v1/quarantine")),
  refetchInterval: 10 * SECOND,
});
export const pause = queryOptions({
  queryKey: ["now", "pause"],
  queryFn: () => body(api.GET("/api/v1/pause")),
});
export type AttentionState = "open" | "snoozed" | "closed";
export const attention = (state: AttentionState, mine: boolean) =>
  queryOptions({
    queryKey: ["attention", "items", state, mine],
    queryFn: () => body(api.GET("/api/v1/attention", { params: { query: { state, mine } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 30 * SECOND,
  });
export const since = queryOptions({
  queryKey: ["since"],
  queryFn: () => body(api.GET("/api/v1/now/since")),
  refetchInterval: 60 * SECOND,
  staleTime: 20 * SECOND,
});
export const outages = queryOptions({
  queryKey: ["attention", "outages"],
  queryFn: () => body(api.GET("/api/v1/outages")),
  refetchInterval: 30 * SECOND,
});
export const standing = queryOptions({
  queryKey: ["standing"],
  queryFn: () => body(api.GET("/api/v1/fleet-over-time/standing")),
  refetchInterval: 60 * SECOND,
  staleTime: 20 * SECOND,
});
export const fleetOverTime = (days: number) =>
  queryOptions({
    queryKey: ["over-time", days],
    queryFn: () => body(api.GET("/api/v1/fleet-over-time", { params: { query: { days } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 60 * SECOND,
  });
export const now = queryOptions({
  queryKey: ["now"],
  queryFn: () => body(api.GET("/api/v1/now")),
  refetchInterval: 5 * SECOND,
});
