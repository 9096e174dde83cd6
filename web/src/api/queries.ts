/** Every question the interface asks, with its key. The first word of a key is its topic: live events
 * of that topic ask again. */
import { infiniteQueryOptions, keepPreviousData, type QueryClient, queryOptions } from "@tanstack/react-query";
import { api, body } from "./client";

const SECOND = 1000;

export const session = queryOptions({
  queryKey: ["session"],
  queryFn: () => body(api.GET("/api/v1/session")),
  staleTime: 300 * SECOND,
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
export const quarantine = queryOptions({
  queryKey: ["attention", "quarantine"],
  queryFn: () => body(api.GET("/api/v1/quarantine")),
  refetchInterval: 10 * SECOND,
});
export const lateJoiners = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "late-joiners"],
    queryFn: () =>
      body(
        api.GET("/api/v1/rollouts/{rollout_id}/late-joiners", {
          params: { path: { rollout_id: id }, query: { limit: 200 } },
        }),
      ),
  });
export const now = queryOptions({
  queryKey: ["now"],
  queryFn: () => body(api.GET("/api/v1/now")),
  refetchInterval: 5 * SECOND,
});
export const groups = queryOptions({ queryKey: ["group", "list"], queryFn: () => body(api.GET("/api/v1/groups")) });
export const folders = queryOptions({
  queryKey: ["group", "folders"],
  queryFn: () => body(api.GET("/api/v1/folders")),
});
export const group = (id: number) =>
  queryOptions({
    queryKey: ["group", id],
    queryFn: () => body(api.GET("/api/v1/groups/{group_id}", { params: { path: { group_id: id } } })),
  });
export const preview = (rule: string, groupId: number | null) =>
  queryOptions({
    queryKey: ["preview", rule, groupId],
    queryFn: () => body(api.POST("/api/v1/rules/preview", { body: { rule, limit: 50, group: groupId } })),
    placeholderData: keepPreviousData,
    retry: false,
    enabled: rule.trim() !== "",
  });
export const sieve = (rule: string) =>
  queryOptions({
    queryKey: ["preview", "sieve", rule],
    queryFn: () => body(api.POST("/api/v1/rules/sieve", { body: { rule, limit: 100 } })),
    placeholderData: keepPreviousData,
    retry: false,
    enabled: rule.trim() !== "",
  });
export const compared = (rule: string, devices: string[]) =>
  queryOptions({
    queryKey: ["explain", "several", rule, ...devices],
    queryFn: () => body(api.POST("/api/v1/rules/compare", { body: { rule, devices } })),
    retry: false,
    enabled: rule.trim() !== "" && devices.length > 0,
  });
export const groupHistory = (id: number) =>
  queryOptions({
    queryKey: ["group", id, "history"],
    queryFn: () => body(api.GET("/api/v1/groups/{group_id}/history", { params: { path: { group_id: id } } })),
  });
export const groupDays = (id: number, first: string, second: string | undefined) =>
  queryOptions({
    queryKey: ["group", id, "days", first, second],
    queryFn: () =>
      body(
        api.GET("/api/v1/groups/{group_id}/two-moments", {
          params: { path: { group_id: id }, query: { first, second } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const proposedRule = (id: number) =>
  queryOptions({
    queryKey: ["group", id, "proposed"],
    queryFn: () => body(api.GET("/api/v1/groups/{group_id}/proposed-rule", { params: { path: { group_id: id } } })),
    retry: false,
    staleTime: 60 * SECOND,
  });
export const overlaps = (ids: number[]) =>
  queryOptions({
    queryKey: ["group", "overlaps", ...ids],
    queryFn: () => body(api.GET("/api/v1/groups/overlaps", { params: { query: { group: ids } } })),
    enabled: ids.length > 1,
    placeholderData: keepPreviousData,
  });
export const fields = queryOptions({
  queryKey: ["fields"],
  queryFn: () => body(api.GET("/api/v1/fields")),
  staleTime: 60 * SECOND,
});
export const values = (key: string, beginning = "") =>
  queryOptions({
    queryKey: ["values", key, beginning],
    queryFn: () => body(api.GET("/api/v1/fields/{key}/values", { params: { path: { key }, query: { beginning } } })),
    staleTime: 20 * SECOND,
  });
export interface Among {
  rule?: string;
  words?: string;
}
export const valuesAmong = (key: string, among: Among) =>
  queryOptions({
    queryKey: ["fleet", "values", key, among],
    queryFn: () => body(api.GET("/api/v1/fields/{key}/values", { params: { path: { key }, query: among } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 10 * SECOND,
  });
export const deviceGrid = (row: string, column: string, among: Among) =>
  queryOptions({
    queryKey: ["fleet", "grid", row, column, among],
    queryFn: () => body(api.GET("/api/v1/devices/grid", { params: { query: { row, column, ...among } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const views = queryOptions({ queryKey: ["views"], queryFn: () => body(api.GET("/api/v1/views")) });
export const edit = (id: number) =>
  queryOptions({
    queryKey: ["edit", id],
    queryFn: () => body(api.GET("/api/v1/edits/{edit_id}", { params: { path: { edit_id: id } } })),
  });
export const broughtIn = (id: number) =>
  queryOptions({
    queryKey: ["import", id],
    queryFn: () => body(api.GET("/api/v1/imports/{import_id}", { params: { path: { import_id: id } } })),
    refetchInterval: (q) => (/ing$/.test(q.state.data?.state ?? "") ? 700 : false),
  });
export const keptMappings = queryOptions({
  queryKey: ["import", "mappings"],
  queryFn: () => body(api.GET("/api/v1/import-mappings")),
});
export const sites = queryOptions({ queryKey: ["fleet", "sites"], queryFn: () => body(api.GET("/api/v1/sites")) });
export const functions = queryOptions({
  queryKey: ["fleet", "functions"],
  queryFn: () => body(api.GET("/api/v1/functions")),
});
export const models = queryOptions({ queryKey: ["fleet", "models"], queryFn: () => body(api.GET("/api/v1/models")) });
export const custodians = queryOptions({
  queryKey: ["fleet", "custodians"],
  queryFn: () => body(api.GET("/api/v1/custodians")),
});
export const codes = queryOptions({
  queryKey: ["fleet", "codes"],
  queryFn: () => body(api.GET("/api/v1/enrolment-codes")),
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
/** A device by its name without doubt: the name may be another's uid, or all digits. */
export const byName = (name: string) => `name:${name}`;
/** How a device is called in an address of the API. */
export const deviceCalled = (name: string) => ({ path: { device: byName(name) } });
export const device = (name: string) =>
  queryOptions({
    queryKey: ["device", name],
    queryFn: () => body(api.GET("/api/v1/devices/{device}", { params: deviceCalled(name) })),
    refetchInterval: 5 * SECOND,
  });
export const deviceOrders = (name: string) =>
  queryOptions({
    queryKey: ["device", name, "orders"],
    queryFn: () => body(api.GET("/api/v1/devices/{device}/orders", { params: deviceCalled(name) })),
    refetchInterval: 5 * SECOND,
  });
export const deviceTimeline = (name: string) =>
  queryOptions({
    queryKey: ["device", name, "timeline"],
    queryFn: () => body(api.GET("/api/v1/devices/{device}/timeline", { params: deviceCalled(name) })),
    refetchInterval: 5 * SECOND,
  });
/** What will reach devices: open rollouts that have something for them, and schedules that fire at them. */
export const upcoming = (devices: string[]) =>
  queryOptions({
    queryKey: ["device", "upcoming", ...devices],
    queryFn: () => body(api.POST("/api/v1/devices/upcoming", { body: { devices, rule: "" } })),
  });
export const admissions = queryOptions({
  queryKey: ["fleet", "admissions"],
  queryFn: () => body(api.GET("/api/v1/admissions")),
  refetchInterval: 10 * SECOND,
});
export const facts = queryOptions({
  queryKey: ["fleet", "facts"],
  queryFn: () => body(api.GET("/api/v1/facts")),
  refetchInterval: 30 * SECOND,
});
export const imports = queryOptions({
  queryKey: ["import", "list"],
  queryFn: () => body(api.GET("/api/v1/imports")),
});
export const images = queryOptions({ queryKey: ["images", "list"], queryFn: () => body(api.GET("/api/v1/images")) });
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
export const cleaningRehearsal = queryOptions({
  queryKey: ["images", "rehearsal"],
  queryFn: () => body(api.GET("/api/v1/cleanings/rehearsal")),
});
export const cleanings = queryOptions({
  queryKey: ["images", "cleanings"],
  queryFn: () => body(api.GET("/api/v1/cleanings")),
});
export const releases = queryOptions({
  queryKey: ["images", "releases"],
  queryFn: () => body(api.GET("/api/v1/releases")),
});
export const signingKeys = queryOptions({
  queryKey: ["images", "keys"],
  queryFn: () => body(api.GET("/api/v1/signing-keys")),
});
export const rollouts = queryOptions({
  queryKey: ["rollout", "list"],
  queryFn: () => body(api.GET("/api/v1/rollouts")),
});
export const plans = queryOptions({ queryKey: ["plans", "list"], queryFn: () => body(api.GET("/api/v1/plans")) });
export const freezes = queryOptions({ queryKey: ["freezes", "list"], queryFn: () => body(api.GET("/api/v1/freezes")) });
const ofRollout = (id: number) => ({ params: { path: { rollout_id: id } } });
export const rollout = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}", ofRollout(id))),
    refetchInterval: 5 * SECOND,
  });
export const marks = (id: number) =>
  queryOptions({
    queryKey: ["rollout", id, "marks"],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/marks", ofRollout(id))),
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
export const sharedByFailed = (id: number, failed: number) =>
  queryOptions({
    queryKey: ["rollout-shared", id, failed],
    queryFn: () => body(api.GET("/api/v1/rollouts/{rollout_id}/shared-by-failed", ofRollout(id))),
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
export type Place = "site" | "model" | "hardware" | "from_version" | "last_error";
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
export interface DeliveryFilter {
  ring?: number;
  phase?: string;
  words?: string;
  site?: string;
  model?: string;
  hardware?: string;
  from_version?: string;
  error?: string;
}
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
export const schedules = queryOptions({
  queryKey: ["schedule", "list"],
  queryFn: () => body(api.GET("/api/v1/schedules")),
});
export const schedule = (id: number) =>
  queryOptions({
    queryKey: ["schedule", id],
    queryFn: () => body(api.GET("/api/v1/schedules/{schedule_id}", { params: { path: { schedule_id: id } } })),
    refetchInterval: 5 * SECOND,
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
export const record = queryOptions({
  queryKey: ["record"],
  queryFn: () => body(api.GET("/api/v1/record", { params: { query: { limit: 200 } } })),
  refetchInterval: 10 * SECOND,
});

/** Ask anew for everything that shows devices: some were added, changed or taken away. */
export function devicesChanged(client: QueryClient): void {
  for (const topic of ["fleet", "device", "values", "group"]) client.invalidateQueries({ queryKey: [topic] });
}
