/** What the room of the fleet asks, with its keys. The first word of a key is its topic (see api/topics). */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";
import type { Among } from "@/api/queries";

const SECOND = 1000;

export const deviceGrid = (row: string, column: string, among: Among) =>
  queryOptions({
    queryKey: ["fleet", "grid", row, column, among],
    queryFn: () => body(api.GET("/api/v1/devices/grid", { params: { query: { row, column, ...among } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const savedViews = queryOptions({ queryKey: ["views"], queryFn: () => body(api.GET("/api/v1/saved-views")) });
export const edit = (id: number) =>
  queryOptions({
    queryKey: ["edit", id],
    queryFn: () => body(api.GET("/api/v1/edits/{edit_id}", { params: { path: { edit_id: id } } })),
  });
export const importOf = (id: number) =>
  queryOptions({
    queryKey: ["import", id],
    queryFn: () => body(api.GET("/api/v1/imports/{import_id}", { params: { path: { import_id: id } } })),
    refetchInterval: (q) => (/ing$/.test(q.state.data?.state ?? "") ? 700 : false),
  });
export const savedMappings = queryOptions({
  queryKey: ["import", "mappings"],
  queryFn: () => body(api.GET("/api/v1/import-mappings")),
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
  infiniteQueryOptions({
    queryKey: ["device", name, "orders"],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/devices/{device}/orders", {
          params: { ...deviceCalled(name), query: { limit: 20, cursor: pageParam } },
        }),
      ),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: 5 * SECOND,
  });
export const deviceTimeline = (name: string, limit: number) =>
  queryOptions({
    queryKey: ["device", name, "timeline", limit],
    queryFn: () =>
      body(api.GET("/api/v1/devices/{device}/timeline", { params: { ...deviceCalled(name), query: { limit } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 5 * SECOND,
  });
/** What will reach devices: open rollouts that have something for them, and schedules that fire at them. */
/** What will reach a device within a week, by itself. It changes as what is upcoming does. */
export const deviceComing = (device: string) =>
  queryOptions({
    queryKey: ["device", "upcoming", "week", device],
    queryFn: () => body(api.GET("/api/v1/devices/{device}/coming", { params: { path: { device: byName(device) } } })),
    refetchInterval: 60 * SECOND,
  });
export const site = (id: number) =>
  queryOptions({
    queryKey: ["fleet", "site", id],
    queryFn: () => body(api.GET("/api/v1/sites/{id}", { params: { path: { id } } })),
    refetchInterval: 60 * SECOND,
  });
export const siteComing = (id: number) =>
  queryOptions({
    queryKey: ["device", "upcoming", "site", id],
    queryFn: () => body(api.GET("/api/v1/sites/{site_id}/coming", { params: { path: { site_id: id } } })),
    refetchInterval: 60 * SECOND,
  });
export const siteUplink = (id: number) =>
  queryOptions({
    queryKey: ["fleet", "site", id, "uplink"],
    queryFn: () => body(api.GET("/api/v1/sites/{site_id}/uplink", { params: { path: { site_id: id } } })),
    refetchInterval: 15 * SECOND,
  });
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
export const imports = infiniteQueryOptions({
  queryKey: ["import", "list"],
  queryFn: ({ pageParam }) => body(api.GET("/api/v1/imports", { params: { query: { limit: 20, cursor: pageParam } } })),
  initialPageParam: undefined as number | undefined,
  getNextPageParam: (page) => page.next ?? undefined,
});
/** The imports that repeat from an address, by name. */
export const repeatedImports = queryOptions({
  queryKey: ["import", "list", "repeated"],
  queryFn: () => body(api.GET("/api/v1/repeated-imports")),
});
