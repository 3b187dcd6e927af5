import { defineConfig } from "@playwright/test";

export default defineConfig({
  testDir: "tests",
  // Each test has a sentry of its own.
  fullyParallel: true,
  workers: 1, // ./test.sh runs two halves of them, each among processes of its own
  forbidOnly: true,
  reporter: [["list"]],
  // Reached only by what never comes, so generous to a busy machine.
  timeout: 180_000,
  expect: { timeout: 60_000 },
  use: {
    viewport: { width: 1280, height: 800 },
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
      ],
    },
  },
});
