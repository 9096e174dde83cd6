/** What the room of groups asks, with its keys. The first word of a key is its topic (see api/topics). */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";

const SECOND = 1000;

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
export const groupsOverview = queryOptions({
  queryKey: ["group", "list", "overview"],
  queryFn: () => body(api.GET("/api/v1/groups/overview")),
});
export const groupHistory = (id: number) =>
  queryOptions({
    queryKey: ["group", id, "history"],
    queryFn: () => body(api.GET("/api/v1/groups/{group_id}/history", { params: { path: { group_id: id } } })),
  });
export const membershipDiff = (id: number, first: string, second: string | undefined) =>
  queryOptions({
    queryKey: ["group", id, "days", first, second],
    queryFn: () =>
      body(
        api.GET("/api/v1/groups/{group_id}/membership-diff", {
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
/** What will reach the members of a group within a week, by itself. */
export const groupComing = (id: number) =>
  queryOptions({
    queryKey: ["group", id, "coming"],
    queryFn: () => body(api.GET("/api/v1/groups/{group_id}/coming", { params: { path: { group_id: id } } })),
    refetchInterval: 60 * SECOND,
  });
/** The list that a group follows; null where it follows none. */
export const followedList = (id: number) =>
  queryOptions({
    queryKey: ["group", id, "followed-list"],
    queryFn: async () =>
      (await body(api.GET("/api/v1/followed-lists", { params: { query: { group: id } } })))[0] ?? null,
  });
