import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { chmodSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir, userInfo } from "node:os";
import { dirname, join, resolve } from "node:path";
import { test as base } from "@playwright/test";

const out = resolve(import.meta.dirname, "../../..", process.env.CALM_TEST_OUT ?? "out");

/** A real sentry with a root of its own, asked through the real client. */
export class Sentry {
  readonly root = mkdtempSync(join(tmpdir(), "calm's trial "));
  readonly account = userInfo().username === "root" ? "nobody" : userInfo().username;
  private server?: ChildProcess;
  private port = "0";

  async serve() {
    chmodSync(this.root, 0o755);
    const server = spawn(join(out, "calm-sentry"), ["serve", "--root", this.root, "--port", this.port]);
    this.server = server;
    const address = await new Promise<string>((serves, fails) => {
      let said = "";
      server.stdout.on("data", (text) => {
        said += text;
        const found = /serves .* and http:\/\/127\.0\.0\.1:(\d+)/.exec(said);
        if (found?.[1]) serves(found[1]);
      });
      server.on("exit", () => fails(new Error(`the server did not come up: ${said}`)));
    });
    this.port = address;
    if (userInfo().username === "root") this.calm("account", "permit", this.account);
  }

  async kill(signal: NodeJS.Signals = "SIGKILL") {
    const server = this.server as ChildProcess;
    const gone = new Promise((resolve) => server.once("exit", resolve));
    server.kill(signal);
    await gone;
  }

  /** Its processes stay, and nothing comes from them any more; or they go on. */
  hold(is: boolean) {
    (this.server as ChildProcess).kill(is ? "SIGSTOP" : "SIGCONT");
  }

  calm(...words: string[]) {
    return execFileSync(join(out, "calm"), ["--root", this.root, ...words], {
      encoding: "utf8",
      stdio: ["ignore", "pipe", "pipe"],
    });
  }

  /** Where what comes of it is looked at elsewhere: it may be refused. */
  tries(...words: string[]) {
    try {
      this.calm(...words);
    } catch {
      // Said by its exit code alone.
    }
  }

  wrap(name: string, script: string, ...flags: string[]) {
    return this.calm("wrap", name, "--account", this.account, ...flags, "--", "/bin/sh", "-c", script);
  }

  /** The sentry's own settings, as somebody saves them while it runs. */
  settings(text: string) {
    const place = join(this.root, "etc", "calm-sentry");
    mkdirSync(place, { recursive: true });
    writeFileSync(join(place, "sentry.yaml"), text);
  }

  file(name: string, text: string) {
    const path = join(this.root, name);
    mkdirSync(dirname(path), { recursive: true });
    writeFileSync(path, text, { mode: 0o755 });
    return path;
  }

  async leave() {
    this.calm("stop", "--all");
    await this.kill("SIGTERM");
    rmSync(this.root, { recursive: true });
  }
}

export const test = base.extend<{ sentry: Sentry }>({
  // biome-ignore lint/correctness/noEmptyPattern: the test library reads the names from the pattern
  sentry: async ({}, use) => {
    const sentry = new Sentry();
    await sentry.serve();
    await use(sentry);
    await sentry.leave();
  },
});
