import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// The service puts a new nonce in the place of this word for each page it sends.
const nonce = "__CALM_NONCE__";

/** What is sent is made small once, here, and lies beside the file: a picture or a font is small already. */
const small: Plugin = {
  name: "small",
  apply: "build",
  writeBundle({ dir = "" }) {
    const assets = join(dir, "assets");
    for (const name of readdirSync(assets).filter((one) => /\.(js|css|svg)$/.test(one))) {
      const file = join(assets, name);
      const bytes = readFileSync(file);
      writeFileSync(`${file}.gz`, gzipSync(bytes, { level: 9 }));
      writeFileSync(
        `${file}.br`,
        brotliCompressSync(bytes, { params: { [constants.BROTLI_PARAM_SIZE_HINT]: bytes.length } }),
      );
    }
  },
};

export default defineConfig({
  plugins: [react(), small],
  html: { cspNonce: nonce },
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  server: {
    // `./dev.sh` names the service's console address; its cookie works for every port of the host.
    proxy: Object.fromEntries(
      ["/api", "/sign-in"].map((path) => [path, { target: process.env.CALM_CONSOLE ?? "http://127.0.0.1:7373" }]),
    ),
  },
});
