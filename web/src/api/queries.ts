/** Questions that several rooms ask, with their keys. The first word of a key is its topic: live events
 * of that topic ask again. Each room keeps its own beside its pages. */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body, type Schemas } from "./client";

const SECOND = 1000;

export const session = queryOptions({
  queryKey: ["session"],
  queryFn: () => body(api.GET("/api/v1/session")),
  staleTime: 300 * SECOND,
});
/** Everybody who has an account or is invited to one. */
export const people = queryOptions({
  queryKey: ["people"],
  queryFn: () => body(api.GET("/api/v1/people")),
});
export const health = queryOptions({
  queryKey: ["health"],
  queryFn: () => body(api.GET("/api/v1/health")),
  staleTime: 60 * SECOND,
  refetchInterval: 60 * SECOND,
});
export const readiness = queryOptions({
  queryKey: ["ready"],
  queryFn: () => body(api.GET("/api/v1/ready")),
  refetchInterval: 10 * SECOND,
  retry: false,
});
export const groups = queryOptions({ queryKey: ["group", "list"], queryFn: () => body(api.GET("/api/v1/groups")) });
/** What commands can be made from. */
export const templates = queryOptions({
  queryKey: ["templates"],
  queryFn: () => body(api.GET("/api/v1/command-templates")),
  staleTime: 60 * SECOND,
});
export const compared = (rule: string, devices: string[]) =>
  queryOptions({
    queryKey: ["explain", "several", rule, ...devices],
    queryFn: () => body(api.POST("/api/v1/rules/compare", { body: { rule, devices } })),
    retry: false,
    enabled: rule.trim() !== "" && devices.length > 0,
  });
export const fields = queryOptions({
  queryKey: ["fields"],
  queryFn: () => body(api.GET("/api/v1/fields")),
  staleTime: 60 * SECOND,
});
export const values = (key: string, beginning = "") =>
  queryOptions({
    queryKey: ["values", key, beginning],
    queryFn: () =>
      body(api.GET("/api/v1/fields/{key}/values", { params: { path: { key }, query: { contains: beginning } } })),
    staleTime: 20 * SECOND,
  });
export interface Among {
  rule?: string;
  q?: string;
}
export const valuesAmong = (key: string, among: Among) =>
  queryOptions({
    queryKey: ["fleet", "values", key, among],
    queryFn: () => body(api.GET("/api/v1/fields/{key}/values", { params: { path: { key }, query: among } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 10 * SECOND,
  });
export const folders = queryOptions({
  queryKey: ["group", "folders"],
  queryFn: () => body(api.GET("/api/v1/folders")),
});
export const sites = queryOptions({ queryKey: ["fleet", "sites"], queryFn: () => body(api.GET("/api/v1/sites")) });
export const models = queryOptions({ queryKey: ["fleet", "models"], queryFn: () => body(api.GET("/api/v1/models")) });
export const custodians = queryOptions({
  queryKey: ["fleet", "custodians"],
  queryFn: () => body(api.GET("/api/v1/custodians")),
});
export const tags = queryOptions({
  queryKey: ["fleet", "tags"],
  queryFn: () => body(api.GET("/api/v1/tags")),
  staleTime: 60 * SECOND,
});
export const attributes = queryOptions({
  queryKey: ["fleet", "attributes"],
  queryFn: () => body(api.GET("/api/v1/attributes")),
});
export const images = queryOptions({ queryKey: ["images", "list"], queryFn: () => body(api.GET("/api/v1/images")) });
export type Stage = "draft" | "open" | "ended";
/** Rollouts to choose one from. */
export const someRollouts = (words = "") =>
  queryOptions({
    queryKey: ["rollout", "list", "choices", words],
    queryFn: async () =>
      (await body(api.GET("/api/v1/rollouts", { params: { query: { q: words || undefined, limit: 200 } } }))).rollouts,
    placeholderData: keepPreviousData,
  });
export const ringPlans = queryOptions({
  queryKey: ["plans", "list"],
  queryFn: () => body(api.GET("/api/v1/ring-plans")),
});
export type Place = "site" | "model" | "hardware" | "from_version" | "last_error";
export interface DeliveryFilter {
  ring?: number;
  phase?: string;
  q?: string;
  site?: string;
  model?: string;
  hardware?: string;
  from_version?: string;
  error?: string;
}
export type ScheduleState = Schemas["ScheduleStateEnum"];
/** Scheduled commands to choose one from. */
export const someSchedules = (words = "") =>
  queryOptions({
    queryKey: ["schedule", "list", "choices", words],
    queryFn: async () =>
      (await body(api.GET("/api/v1/schedules", { params: { query: { q: words || undefined, limit: 200 } } })))
        .schedules,
    placeholderData: keepPreviousData,
  });
export interface RecordFilter {
  person?: string;
  kind?: Schemas["KindInRecord"]["kind"];
  object?: number;
  q?: string;
  since?: string;
  until?: string;
}
