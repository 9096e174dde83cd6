/** What is asked about notifications, with its keys. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";

const SECOND = 1000;

export const ownMessages = infiniteQueryOptions({
  queryKey: ["messages", "own"],
  queryFn: ({ pageParam }) => body(api.GET("/api/v1/own/messages", { params: { query: { offset: pageParam } } })),
  initialPageParam: undefined as number | undefined,
  getNextPageParam: (last) => last.next ?? undefined,
  refetchInterval: 60 * SECOND,
});
export const rules = queryOptions({
  queryKey: ["notifications"],
  queryFn: () => body(api.GET("/api/v1/notifications")),
});
export const sent = queryOptions({
  queryKey: ["messages", "sent"],
  queryFn: () => body(api.GET("/api/v1/notifications/sent")),
  refetchInterval: 20 * SECOND,
});
export const demoMail = queryOptions({
  queryKey: ["messages", "demo-mail"],
  queryFn: () => body(api.GET("/api/v1/demo/mail")),
  refetchInterval: 5 * SECOND,
});
