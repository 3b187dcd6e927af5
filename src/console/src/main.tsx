import "@fontsource-variable/inter";
import "@mantine/core/styles.css";
import "./app/app.css";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { router } from "./app/router";
import { theme } from "./app/theme";
import { connect } from "./live/live";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: Number.POSITIVE_INFINITY } },
});
const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "";

// After an upgrade the parts of the page before are gone: it is loaded anew, once.
window.addEventListener("vite:preloadError", (event) => {
  const [place, now] = ["calm-loaded-anew", Date.now()];
  if (now - Number(sessionStorage.getItem(place) ?? 0) < 60_000) return;
  event.preventDefault();
  sessionStorage.setItem(place, String(now));
  window.location.reload();
});

void connect();
createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto" getStyleNonce={() => nonce}>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
