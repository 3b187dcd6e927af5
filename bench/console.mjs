/**
 * How long the console takes to its first rows, from a change on the host to its sight, and how smoothly it draws, beside a bare page that
 * fetches the same list and makes a row of each service.
 *
 * console.mjs PROGRAMS   starts a sentry of its own and prints a line for each measure, a Markdown table. As root.
 */
import { execFileSync, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer, request } from "node:http";
import { createRequire } from "node:module";
import { tmpdir } from "node:os";
import { join, resolve } from "node:path";

const from = createRequire(new URL("../src/console/package.json", import.meta.url));
const { chromium } = from("playwright-core");
const programs = resolve(process.argv[2]);
const sizes = process.argv.includes("--quick") ? [10, 50] : [10, 300, 1000];
const [visits, changes, sweep] = process.argv.includes("--quick") ? [2, 20, 1_000] : [5, 200, 10_000];
const root = mkdtempSync(join(tmpdir(), "calm-bench."));
const client = (...words) =>
  execFileSync(join(programs, "calm"), ["--root", root, ...words], { encoding: "utf8", stdio: ["ignore", "pipe", "ignore"] });

/** An answer of the sentry, at root's own door. */
const ask = (method, path, body) =>
  new Promise((done, failed) => {
    const asked = request(
      { socketPath: join(root, "run/calm-sentry/root.sock"), method, path: `/api/${path}`, headers: { "Content-Type": "application/json" } },
      (answer) => {
        const parts = [];
        answer.on("data", (part) => parts.push(part));
        answer.on("end", () =>
          answer.statusCode < 300
            ? done(Buffer.concat(parts).toString())
            : failed(new Error(`${method} ${path}: ${answer.statusCode} ${Buffer.concat(parts)}`)),
        );
      },
    );
    asked.on("error", failed);
    asked.end(body === undefined ? undefined : JSON.stringify(body));
  });

const at = (times, part) => [...times].sort((a, b) => a - b)[Math.min(times.length - 1, Math.floor(times.length * part))];
const ms = (times) =>
  `${at(times, 0.5).toFixed(1)} ms (${times.length >= 100 ? `${at(times, 0.99).toFixed(1)} ms, ` : ""}${Math.max(...times).toFixed(1)} ms)`;
const say = (what, floor, ours, ratio) => console.log(`| ${what} | ${floor} | ${ours} | ${ratio} |`);
const ratio = (ours, floor) => (at(ours, 0.5) / at(floor, 0.5)).toFixed(2);

/** Puts down when the first row was there, and every change of a title that was waited for. */
const notes = () => {
  window.seen = {};
  new MutationObserver(() => {
    window.firstRow ??= document.querySelector("[data-service]") ? performance.now() : undefined;
    if (window.waited && document.body.textContent.includes(window.waited)) window.seen[window.waited] ??= Date.now();
  }).observe(document, { childList: true, subtree: true, characterData: true });
};

/** The same list, as plain as a page can be. */
const bare = await new Promise((ready) => {
  const server = createServer((asked, answer) => {
    if (asked.url === "/list") return ask("GET", "services").then((list) => answer.end(list));
    answer.setHeader("Content-Type", "text/html");
    answer.end(`<!doctype html><title>bare</title><div id=rows></div><script>
      fetch("/list").then((a) => a.json()).then((all) => rows.append(...all.map((one) => {
        const row = document.createElement("div");
        row.dataset.service = one.name;
        row.textContent = one.title + " " + one.state + " " + one.why;
        return row;
      })))</script>`);
  });
  server.listen(0, "127.0.0.1", () => ready(server));
});

/** Milliseconds to the first row, and bytes as they were sent, of visits with nothing kept from before. */
async function visit(page, address, session) {
  const took = [];
  let bytes = 0;
  session.on("Network.loadingFinished", (event) => (bytes += event.encodedDataLength));
  for (let i = 0; i < visits; i++) {
    bytes = 0;
    await page.goto(address);
    await page.waitForFunction(() => window.firstRow);
    took.push(await page.evaluate(() => window.firstRow));
  }
  session.removeAllListeners("Network.loadingFinished");
  return { took, bytes };
}

const server = spawn(join(programs, "calm-sentry"), ["serve", "--root", root, "--port", "0"], { stdio: ["ignore", "pipe", "inherit"] });
await new Promise((serves) => server.stdout.on("data", (text) => /serves/.test(text) && serves()));
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu"] });
try {
  client("account", "permit", "nobody");
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  const session = await page.context().newCDPSession(page);
  await session.send("Network.enable");
  await session.send("Network.setCacheDisabled", { cacheDisabled: true });
  await page.goto(client("open").trim());
  await page.addInitScript(notes);
  const console_ = new URL(page.url()).origin;
  const plain = `http://127.0.0.1:${bare.address().port}/`;
  console.log("| what | floor: p50 (p99, worst) | the console: p50 (p99, worst) | ratio of p50 |\n|---|---|---|---|");
  let made = 0;
  for (const size of sizes) {
    const more = [];
    for (; made < size; made++) {
      more.push(`service-${made}`);
      await ask("POST", "services", {
        name: `service-${made}`,
        program: { path: "/bin/sleep", arguments: ["100000"], directory: "/" },
        identity: { account: "nobody" },
        begin: { proof: { "up-for": "0s" } },
      });
    }
    await ask("POST", "together/start", { services: more });
    const floor = await visit(page, plain, session);
    const ours = await visit(page, `${console_}/`, session);
    say(`the list's first rows, ${size} services`, ms(floor.took), ms(ours.took), ratio(ours.took, floor.took));
    say(`… bytes as sent, the list among them`, `${(floor.bytes / 1000).toFixed(0)} kB`, `${(ours.bytes / 1000).toFixed(0)} kB`, (ours.bytes / floor.bytes).toFixed(2));
  }

  const sight = [];
  const alone = [];
  for (let i = 0; i < changes; i++) {
    const title = `Lamp ${i} of the quay`;
    await page.evaluate((text) => (window.waited = text), title);
    const began = Date.now();
    await ask("PATCH", `services/service-${i % made}`, { title });
    alone.push(Date.now() - began);
    await page.waitForFunction((text) => window.seen[text], title);
    sight.push((await page.evaluate((text) => window.seen[text], title)) - began);
  }
  say(`a change on the host to its sight, ${made} services (floor: the answer to the change)`, ms(alone), ms(sight), ratio(sight, alone));

  const heap = async () => {
    await session.send("HeapProfiler.collectGarbage");
    return (await session.send("Runtime.getHeapUsage")).usedSize / 1e6;
  };
  const before = await heap();
  await page.evaluate(() => {
    window.waited = undefined;
    window.frames = [];
    let last = performance.now();
    const frame = (now) => {
      window.frames.push(now - last);
      last = now;
      if (!window.stopped) requestAnimationFrame(frame);
    };
    requestAnimationFrame(frame);
  });
  let events = 0;
  /** Changes one service after the other, again and again, for as long as it is asked to go on. */
  const change = async (goesOn) => {
    for (let round = 0; goesOn(); round++)
      for (let i = 0; i < made && goesOn(); i += 20) {
        const some = Array.from({ length: Math.min(20, made - i) }, (_, j) => i + j);
        await Promise.all(some.map((j) => ask("PATCH", `services/service-${j}`, { notes: `round ${round}`, labels: [`r${round % 3}`] })));
        events += some.length;
      }
  };
  const until = Date.now() + sweep;
  await change(() => Date.now() < until);
  const frames = await page.evaluate(() => {
    window.stopped = true;
    return window.frames.slice(1);
  });
  say(`a frame while ${made} services change, ${Math.round(events / (sweep / 1000))} a second`, "–", ms(frames), "–");
  say(`memory of the page before and after ${events} events`, `${before.toFixed(1)} MB`, `${(await heap()).toFixed(1)} MB`, "–");
  if (process.argv.includes("--hour")) {
    // As many as come in an hour at ten a second.
    for (const part of [9_000, 18_000, 27_000, 36_000]) {
      await change(() => events < part);
      say(`… and after ${events}, of an hour's 36,000 at ten a second`, `${before.toFixed(1)} MB`, `${(await heap()).toFixed(1)} MB`, "–");
    }
  }
} finally {
  await browser.close();
  bare.close();
  try {
    client("stop", "--all");
  } finally {
    const gone = new Promise((resolve) => server.once("exit", resolve));
    server.kill("SIGTERM");
    await gone;
    rmSync(root, { recursive: true });
  }
}
