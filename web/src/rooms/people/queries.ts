/** What is asked about people and one's own account, with its keys. */
import { queryOptions } from "@tanstack/react-query";
import { api, body } from "@/api/client";

export const ownSessions = queryOptions({
  queryKey: ["own", "sessions"],
  queryFn: () => body(api.GET("/api/v1/own/sessions")),
});
export const ownPreference = queryOptions({
  queryKey: ["own", "preference"],
  queryFn: () => body(api.GET("/api/v1/own/preference")),
});
export const ownSecondFactor = queryOptions({
  queryKey: ["own", "second-factor"],
  queryFn: () => body(api.GET("/api/v1/own/second-factor")),
});
export const ownPasskeys = queryOptions({
  queryKey: ["own", "passkeys"],
  queryFn: () => body(api.GET("/api/v1/own/passkeys")),
});
export const ownTokens = queryOptions({
  queryKey: ["own", "tokens"],
  queryFn: () => body(api.GET("/api/v1/tokens")),
});
export const welcome = (secret: string) =>
  queryOptions({
    queryKey: ["welcome", secret],
    queryFn: () => body(api.GET("/api/v1/welcome/{secret}", { params: { path: { secret } } })),
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
