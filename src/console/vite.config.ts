import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service puts a new nonce in the place of this word for each page it sends.
const nonce = "__CALM_NONCE__";

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: nonce },
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  server: {
    // `./dev.sh` names the service's console address; its cookie works for every port of the host.
    proxy: Object.fromEntries(
      ["/api", "/sign-in"].map((path) => [path, { target: process.env.CALM_CONSOLE ?? "http://127.0.0.1:7373" }]),
    ),
  },
});
