/** What the library asks, with its keys. The first word of a key is its topic (see api/topics). */
import { queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";

const SECOND = 1000;

export const capabilities = queryOptions({
  queryKey: ["fleet", "capabilities"],
  queryFn: () => body(api.GET("/api/v1/capabilities")),
});
export const codes = queryOptions({
  queryKey: ["fleet", "codes"],
  queryFn: () => body(api.GET("/api/v1/enrolment-codes")),
});
export const facts = queryOptions({
  queryKey: ["fleet", "facts"],
  queryFn: () => body(api.GET("/api/v1/facts")),
  refetchInterval: 30 * SECOND,
});
export const upgradePaths = (model: number) =>
  queryOptions({
    queryKey: ["images", "paths", model],
    queryFn: () => body(api.GET("/api/v1/models/{id}/upgrades", { params: { path: { id: model } } })),
    enabled: model > 0,
  });
export const imageWithdrawal = (id: number) =>
  queryOptions({
    queryKey: ["images", id, "withdrawal"],
    queryFn: () => body(api.GET("/api/v1/images/{image_id}/withdraw/preview", { params: { path: { image_id: id } } })),
  });
export const cleanupPreview = queryOptions({
  queryKey: ["images", "rehearsal"],
  queryFn: () => body(api.GET("/api/v1/image-cleanups/preview")),
});
export const imageCleanups = queryOptions({
  queryKey: ["images", "cleanups"],
  queryFn: async () => (await body(api.GET("/api/v1/image-cleanups"))).cleanups,
});
export const approvalPolicies = queryOptions({
  queryKey: ["images", "releases"],
  queryFn: () => body(api.GET("/api/v1/approval-policies")),
});
export const signingKeys = queryOptions({
  queryKey: ["images", "keys"],
  queryFn: () => body(api.GET("/api/v1/signing-keys")),
});
export const freezes = queryOptions({ queryKey: ["freezes", "list"], queryFn: () => body(api.GET("/api/v1/freezes")) });
/** Calendars that freezes are read from. They change as freezes do. */
export const calendarSources = queryOptions({
  queryKey: ["freezes", "sources"],
  queryFn: () => body(api.GET("/api/v1/calendar-sources")),
  refetchInterval: 30 * SECOND,
});
