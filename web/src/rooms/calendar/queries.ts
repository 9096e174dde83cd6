/** What the calendar asks, with its keys. The first word of a key is its topic (see api/topics). */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body, type Schemas } from "@/api/client";
import type { RowKind } from "./model";

const SECOND = 1000;

export const calendar = (from: string, until: string, rows: RowKind) =>
  queryOptions({
    queryKey: ["calendar", "days", from, until, rows],
    queryFn: () => body(api.GET("/api/v1/calendar", { params: { query: { from, until, rows } } })),
    refetchInterval: 20 * SECOND,
    placeholderData: keepPreviousData,
  });
export const conflicts = queryOptions({
  queryKey: ["calendar", "conflicts"],
  queryFn: () => body(api.GET("/api/v1/calendar/conflicts")),
  refetchInterval: 60 * SECOND,
});
export const movePreview = (move: Schemas["MoveBodyRequest"] | null) =>
  queryOptions({
    queryKey: ["calendar-move", move],
    queryFn: () => body(api.POST("/api/v1/calendar/moves/preview", { body: move as Schemas["MoveBodyRequest"] })),
    enabled: move !== null,
    retry: false,
    staleTime: 0,
  });
/** Feeds of one's own. */
export const feeds = queryOptions({
  queryKey: ["feeds"],
  queryFn: () => body(api.GET("/api/v1/calendar-feeds")),
});
