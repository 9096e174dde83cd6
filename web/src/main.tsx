import "./index.css";
import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { ApiError } from "./api/client";
import { session } from "./api/queries";
import { router } from "./app/router";
import { currentTheme } from "./app/theme";

document.documentElement.dataset.theme = currentTheme();

// a session that ended shows the sign-in, whatever was asked
const queryCache = new QueryCache({
  onError: (error) => {
    if (error instanceof ApiError && error.status === 401) client.invalidateQueries({ queryKey: session.queryKey });
  },
});
const client = new QueryClient({
  queryCache,
  defaultOptions: {
    queries: {
      staleTime: 2000,
      // asked although the browser believes to be offline, so that a page says that nothing answers
      networkMode: "always",
      // what was refused stays refused; a server that does not answer is asked once more before the page says so
      retry: (failures, error) =>
        failures < 1 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      retryDelay: 1000,
    },
    mutations: { networkMode: "always" },
  },
});

const root = document.getElementById("root");
if (!root) throw new Error("the page has no root");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
