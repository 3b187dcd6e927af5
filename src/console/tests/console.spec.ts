import { execFileSync, spawn } from "node:child_process";
import { chmodSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { dirname, join } from "node:path";
import { createInterface } from "node:readline";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Locator, type Page } from "@playwright/test";
import { type Sentry, test } from "./sentry";

/** Whatever a page complains about fails its test: but for a sentry that was killed, and for what a test has refused on purpose. */
const complaints: string[] = [];
const meant = /net::ERR_|with a status of (400|401|409|412|422) /;
test.beforeEach(({ page }) => {
  complaints.length = 0;
  page.on("pageerror", (error) => complaints.push(error.message));
  page.on("console", (message) => {
    const isWrong = message.type() === "error" || /Content Security Policy|Warning:/.test(message.text());
    if (isWrong && !meant.test(message.text())) complaints.push(`${message.text()} ${message.location().url}`);
  });
});
test.afterEach(() => expect(complaints).toEqual([]));

/** Signs in by the link, as a person would. */
async function enter(page: Page, sentry: Sentry) {
  await page.goto(sentry.calm("open").trim());
  await expect(page.getByRole("status").first()).toContainText("live");
}

const row = (page: Page, name: string) => page.locator(`[data-service="${name}"]`);

/** The field of a path, which is completed; a star behind its name says that it must not be left out. */
const path = (page: Page, name: string) => page.getByRole("combobox", { name: new RegExp(`^${name}( \\*)?$`) });

/** A part of a service's page. */
const section = (page: Page, name: string) =>
  page.getByRole("navigation", { name: "Sections" }).getByRole("link", { name, exact: true }).click();

test("without a link nothing is shown but how to sign in", async ({ page, sentry }) => {
  const link = new URL(sentry.calm("open").trim());
  sentry.wrap("secret-service", "exec sleep 600");
  await page.goto(link.origin);
  await expect(page.getByText("calm open")).toBeVisible();
  await expect(page.getByText("secret-service")).toHaveCount(0);
});

test("a page on another port of this host gets the cookie, and nothing by it", async ({ page, sentry }) => {
  await enter(page, sentry);
  const console = new URL(page.url()).origin;
  let cookie = "";
  const other = createServer((request, answer) => {
    cookie = request.headers.cookie ?? cookie;
    answer.setHeader("Content-Type", "text/html");
    answer.end("<title>another port</title>");
  });
  await new Promise<void>((ready) => other.listen(0, "127.0.0.1", ready));
  try {
    await page.goto(`http://127.0.0.1:${(other.address() as AddressInfo).port}/`);
    expect(cookie).toContain("calm-session="); // cookies have no ports: that is why it opens nothing alone
    const stolen = await fetch(`${console}/api/services`, { headers: { cookie } });
    expect(stolen.status).toBe(401);
    const secret = await page.evaluate(() => localStorage.getItem("calm-page"));
    expect(secret).toBeNull();
    const asked = await page.evaluate(
      (url) =>
        fetch(url, { credentials: "include" }).then(
          (answer) => answer.status,
          () => "refused",
        ),
      `${console}/api/services`,
    );
    expect(asked).toBe("refused");
    const framed = await page.evaluate(
      (url) =>
        new Promise((done) => {
          const frame = document.createElement("iframe");
          frame.onload = () => done(frame.contentDocument === null ? "closed" : "open");
          frame.src = `${url}/`;
          document.body.append(frame);
        }),
      console,
    );
    expect(framed).toBe("closed");
  } finally {
    other.close();
  }
  complaints.length = 0; // that it was kept out is what the other page complains of
});

test("signed out, the browser shows nothing and keeps nothing", async ({ page, sentry }) => {
  await enter(page, sentry);
  await page.getByRole("button", { name: "Sign out" }).click();
  await expect(page.getByRole("heading", { name: "Sign in" })).toBeVisible();
  expect(await page.evaluate(() => localStorage.getItem("calm-page"))).toBeNull();
  expect(JSON.parse(sentry.calm("host", "sessions", "--json"))).toEqual([]);
});

test("the list changes by events: wrapped, started, killed, back, stopped, unwrapped", async ({ page, sentry }) => {
  await enter(page, sentry);
  await expect(page.getByRole("heading", { name: "No services yet" })).toBeVisible();
  await page.evaluate(() => Object.assign(window, { neverReloaded: true }));
  sentry.wrap("Departure board", "exec sleep 600");
  await expect(row(page, "departure-board")).toContainText("stopped");
  sentry.calm("start", "departure-board");
  await expect(page.getByRole("region", { name: "Running" })).toContainText("Departure board");
  const { pid } = JSON.parse(sentry.calm("show", "departure-board", "--json"));
  process.kill(pid, "SIGKILL");
  await expect(row(page, "departure-board")).toContainText("Calm Sentry restarted it");
  await expect(row(page, "departure-board").locator(".number").last()).toHaveText("1");
  sentry.calm("stop", "departure-board");
  await expect(page.getByRole("region", { name: "Not running" })).toContainText("Departure board");
  sentry.calm("unwrap", "departure-board", "--yes");
  await expect(row(page, "departure-board")).toHaveCount(0);
  expect(await page.evaluate(() => "neverReloaded" in window)).toBe(true);
});

test("a service that needs a person stands first, with a word", async ({ page, sentry }) => {
  sentry.wrap("calm-one", "exec sleep 600", "--start");
  sentry.wrap("gate-counter", "exit 3", "--pause", "0s");
  try {
    sentry.calm("start", "gate-counter");
  } catch {
    // It is meant to fall until it is held.
  }
  await enter(page, sentry);
  await expect(page.getByRole("heading", { name: "One service needs attention" })).toBeVisible();
  await expect(page.getByRole("region").first()).toHaveAccessibleName("Needs attention");
  await expect(page.getByRole("region", { name: "Needs attention" })).toContainText("held");
});

test("a service's page starts, stops and shows its output as it comes", async ({ page, sentry }) => {
  const words = `${sentry.root}/words`;
  sentry.file("words", "");
  sentry.wrap("teller", `echo ready; exec tail -n 0 -F "${words}"`);
  await enter(page, sentry);
  await row(page, "teller").click();
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(page.getByText("teller is running: run 1")).toBeVisible();
  await expect(page.getByLabel("Output")).toContainText("ready");
  sentry.file("words", "the tide is in\n");
  await expect(page.getByLabel("Output")).toContainText("the tide is in");
  await page.getByRole("button", { name: "Restart" }).click();
  await expect(page.getByText("teller is running: run 2")).toBeVisible();
  await section(page, "Runs");
  await expect(page.getByRole("cell", { name: "was killed by signal TERM", exact: true })).toBeVisible();
  await page.getByRole("button", { name: "Stop" }).click();
  await expect(page.getByText("Nothing of it is left.")).toBeVisible();
  await expect(page.getByRole("button", { name: "Start", exact: true })).toBeEnabled();
});

test("what was printed is found by text, walked, and seen by time, stream and run", async ({ page, sentry }) => {
  await enter(page, sentry);
  sentry.wrap(
    "teller",
    "i=0; while [ $i -lt 30000 ]; do echo fare $i; i=$((i+1)); done; echo no paper >&2; exec sleep 600",
    "--turn-at",
    "1MiB",
    "--start",
  );
  await page.goto(`${new URL(page.url()).origin}/services/teller/output`);
  const output = page.getByLabel("Output");
  await expect(output).toContainText("no paper");
  await page.getByLabel("Find a text").fill("fare 1234");
  await expect(page.getByText("11 hits", { exact: true })).toBeVisible();
  await page.getByLabel("The hit before").click();
  await expect(page.getByText("11 of 11", { exact: true })).toBeVisible();
  await expect(output.locator(".here")).toHaveText("fare 12349");
  await expect(output.locator(".here mark")).toHaveText("fare 1234");
  await page.getByLabel("The hit before").click();
  await expect(output.locator(".here")).toHaveText("fare 12348");
  await page.getByLabel("The next hit").click();
  await expect(output.locator(".here")).toHaveText("fare 12349");
  await page.getByLabel("Find a text").fill("pirates");
  await expect(page.getByText("not found")).toBeVisible();
  await page.getByLabel("errors only").check();
  await expect(output).toHaveText("no paper");
  await page.getByLabel("times").check();
  await expect(output).toHaveText(/^\d\d:\d\d:\d\d\.\d{3} {2}no paper$/);
  await page.getByLabel("errors only").uncheck();
  await page.getByLabel("Go to a time").fill("1h");
  await page.getByLabel("Go to a time").press("Enter");
  await expect(output).toContainText("fare 0");
  await page.getByRole("button", { name: "What comes now" }).click();
  await expect(output).toContainText("no paper");
  const download = page.waitForEvent("download");
  await page.getByRole("button", { name: "Download" }).click();
  expect((await download).suggestedFilename()).toBe("teller.log");
});

test("a fall leads to what its run printed, and a log file of its own is seen beside it", async ({ page, sentry }) => {
  await enter(page, sentry);
  const script =
    'cd "$CALM_STATE"; n=$(($(cat n 2>/dev/null || echo 0) + 1)); echo $n >n; echo "ferry $n"; echo "gate $n" >>note.log; exit 3';
  const note = `note=${sentry.root}/var/lib/calm-sentry/state/gate/note.log`;
  sentry.wrap("gate", script, "--recover", "never", "--log-file", note);
  for (let i = 0; i < 2; i++) expect(() => sentry.calm("start", "gate")).toThrow();
  await page.getByRole("link", { name: "Logbook" }).click();
  await page.getByText("What failed", { exact: true }).click();
  const falls = page.getByRole("table").getByRole("row");
  await falls.filter({ hasText: "Run 1 " }).first().getByRole("link", { name: "its output" }).click();
  const output = page.getByLabel("Output", { exact: true });
  await expect(output).toHaveText("ferry 1");
  await expect(page.getByText("What is shown: of run 1.")).toBeVisible();
  await section(page, "Runs");
  await page.locator("table.runs").getByRole("row").nth(1).getByRole("link").click(); // the latest
  await expect(output).toHaveText("ferry 2");
  await page.getByRole("button", { name: "What comes now" }).click();
  await expect(output).toHaveText("ferry 1ferry 2");
  await page.getByRole("combobox", { name: "Of a log file of its own" }).click();
  await page.getByRole("option", { name: "note" }).click();
  await expect(output).toHaveText("gate 1gate 2");
  await page.getByLabel("Find a text").fill("gate 1");
  await expect(page.getByText("1 hit", { exact: true })).toBeVisible();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("when the connection is gone it says so, and when it is back nothing is missing", async ({ page, sentry }) => {
  const words = sentry.file("words", "");
  sentry.wrap("teller", `echo ready; exec tail -n 0 -F "${words}"`, "--start");
  await enter(page, sentry);
  await row(page, "teller").click();
  await expect(page.getByLabel("Output")).toContainText("ready");
  await sentry.kill();
  await expect(page.getByRole("alert")).toContainText("connection to the sentry is gone");
  await expect(page.getByRole("button", { name: "Stop" })).toBeDisabled();
  sentry.file("words", "said while nobody watched\n");
  await sentry.serve();
  await expect(page.getByRole("alert")).toHaveCount(0);
  await expect(page.getByLabel("Output")).toContainText("said while nobody watched");
  await expect(page.getByLabel("Output").getByText("ready")).toHaveCount(1);
});

test("a line that is dead without a word is noticed, and left behind when it lives again", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  await enter(page, sentry);
  sentry.hold(true);
  try {
    await expect(page.getByRole("alert")).toContainText("connection to the sentry is gone", { timeout: 30_000 });
  } finally {
    sentry.hold(false);
  }
  await expect(page.getByRole("alert")).toHaveCount(0);
  sentry.calm("start", "tide");
  await expect(row(page, "tide")).toContainText("running");
});

test("a held service says why, shows what each fall left behind, and is released", async ({ page, sentry }) => {
  const mended = `${sentry.root}/mended`;
  sentry.wrap(
    "gate-counter",
    `[ -e "${mended}" ] && exec sleep 600; echo "the barrier reads -1"; exit 3`,
    "--pause",
    "20ms",
    "--hold-ends",
    "3",
    "--watch",
    "silent-for:1h,follows=note",
  );
  try {
    sentry.calm("start", "gate-counter");
  } catch {
    // It is meant to fall until it is held.
  }
  await enter(page, sentry);
  await row(page, "gate-counter").click();
  const why = page.locator(".why");
  await expect(why).toContainText("Failed 3 times, and was restarted 2 times: it exited with code 3 each time");
  await expect(why).toContainText("Nothing happens automatically: it needs attention.");
  await expect(why).toContainText("calm release gate-counter");
  await expect(why.locator(".last-lines")).toHaveText("the barrier reads -1");
  await section(page, "Runs");
  await page.getByRole("button", { name: "+ 3" }).click();
  await expect(page.locator(".runs .last-lines")).toHaveText("the barrier reads -1");
  await expect(page.getByText("it has never run well before")).toBeVisible();

  sentry.file("mended", "");
  await page.getByRole("button", { name: "Release" }).click();
  await expect(page.getByText("Released from its hold. gate-counter is running: run 4")).toBeVisible();
  await expect(page.getByRole("button", { name: "Release" })).toHaveCount(0);
  await expect(page.getByRole("row", { name: /^a day/ })).toContainText("3");
  await section(page, "Definition");
  await expect(page.getByRole("row", { name: /it is never silent for 1 h.*it is noted/ })).toBeVisible();
  await section(page, "Overview");
  await page.getByLabel("Ask for another time").fill("2001-02-03T04:05:06");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect(why.getByRole("alert")).toContainText("The record of gate-counter begins later");
  await page.getByRole("button", { name: "Back to now" }).click();
  await expect(why).toContainText("Released from its hold");
  expect(complaints).toHaveLength(1); // of a time of which nothing is known
  complaints.length = 0;
});

test("a service's terminal is joined, typed at and left", async ({ page, sentry }) => {
  const program = sentry.file(
    "desk.sh",
    "#!/bin/sh\nwhile printf 'which berth? '; read -r berth; do echo \"berth $berth is noted\"; done\n",
  );
  sentry.calm("wrap", "desk", "--account", sentry.account, "--terminal", "90x20", "--start", "--", program);
  await enter(page, sentry);
  await row(page, "desk").click();
  await section(page, "Screen");
  await page.getByRole("button", { name: "Join" }).click();
  const terminal = page.getByRole("region", { name: "Terminal" });
  const screen = terminal.locator(".xterm-accessibility-tree");
  await expect(screen).toContainText("which berth?");
  await expect(terminal.getByRole("status")).toContainText("You type.");
  await terminal.locator("textarea").pressSequentially("7\n");
  await expect(screen).toContainText("berth 7 is noted");
  await terminal.getByRole("button", { name: "Only see" }).click();
  await expect(terminal.getByRole("status")).toContainText("Nobody types");
  await terminal.getByRole("button", { name: "Type here" }).click();
  await expect(terminal.getByRole("status")).toContainText("You type.");
  await terminal.locator("textarea").pressSequentially("8\n");
  await expect(screen).toContainText("berth 8 is noted");
  await terminal.getByRole("button", { name: "Leave" }).click();
  await expect(page.getByRole("button", { name: "Join" })).toBeVisible();
  // What draws the one is not taken for the other: lines of its output stay as they are.
  await section(page, "Output");
  await expect(page.locator(".line.terminal").first()).toHaveCSS("background-color", "rgba(0, 0, 0, 0)");
  await section(page, "Logbook");
  await expect(page.getByText("Keys were typed at its terminal.")).toBeVisible();
});

/** A command at a plain terminal, drawn by an emulator that is not the console's. */
function plain(size: string, ...command: string[]) {
  const place = join(import.meta.dirname, "../../../tests/EndToEnd/Terminals/screens.py");
  const program = spawn("/usr/bin/python3", [place, size, ...command], { stdio: ["pipe", "pipe", "inherit"] });
  const answers = createInterface({ input: program.stdout })[Symbol.asyncIterator]();
  const say = (order: object) => program.stdin.write(`${JSON.stringify(order)}\n`);
  return {
    keys: (keys: string) => say({ keys }),
    until: (text: string) => say({ until: text }),
    async lines(): Promise<string[]> {
      say({ wait: 0.05 });
      say({ show: true });
      return (JSON.parse((await answers.next()).value) as { lines: string[] }).lines.map((line) => line.trimEnd());
    },
    end: () => program.stdin.end(),
  };
}

const drawnLines = async (screen: Locator) =>
  (await screen.getByRole("listitem").allTextContents()).map((line) => line.replaceAll("\u00a0", " ").trimEnd());

test("what the console shows of a terminal is what a plain one shows, cell by cell", async ({ page, sentry }) => {
  // What a plain terminal is sent, and what is pressed in the browser for it; else it is typed.
  const pressed: Record<string, string> = { "\u0007": "Control+g", "\u0018": "Control+x", "\u001bOA": "ArrowUp" };
  for (const [name, size, command, steps] of [
    ["notes", "80x24", ["/usr/bin/nano", "-I"], ["berth 7 taken\r", "\u0007", "\u0018", "\u001bOA", "quay 13\r"]],
    ["board", "90x20", ["/usr/bin/top", "-d", "600", "-p", "1"], ["h", "q", "E", "c"]],
  ] as const) {
    sentry.calm(
      ...["wrap", name, "--account", sentry.account, "--terminal", size],
      ...["--environment", "TERM=xterm-256color", "--start", "--", ...command],
    );
    const [here, there] = [plain(size, ...command), page.getByRole("region", { name: "Terminal" })];
    try {
      await (name === "notes" ? enter(page, sentry) : page.goto(new URL("/", page.url()).href));
      await row(page, name).click();
      await section(page, "Screen");
      await page.getByRole("button", { name: "Join" }).click();
      await expect(there.getByRole("status")).toContainText("You type.");
      // Figures differ from one moment to the next.
      const still = (lines: string[]) =>
        name === "board" ? lines.map((line) => line.replace(/[\d\s.,:+-]+/g, " ").replace(/ [RSI] /, " ")) : lines;
      for (const keys of ["", ...steps]) {
        here.keys(keys);
        const typed = there.locator("textarea");
        await (pressed[keys] ? typed.press(pressed[keys]) : typed.pressSequentially(keys.replace("\r", "\n")));
        await expect
          .poll(async () => {
            const [one, other] = [await drawnLines(there), await here.lines()].map((all) => still(all).join("\n"));
            return one === other && one?.trim() ? "the same" : `${one}\n— at a plain terminal —\n${other}`;
          })
          .toBe("the same");
      }
      await there.getByRole("button", { name: "Leave" }).click();
    } finally {
      here.end();
    }
  }
});

test("a joined terminal outlives the sentry, and a recording is played", async ({ page, sentry }) => {
  const program = sentry.file("desk.sh", '#!/bin/sh\nwhile read -r berth; do echo "berth $berth is noted"; done\n');
  sentry.calm("wrap", "desk", "--account", sentry.account, "--terminal", "90x20", "--start", "--", program);
  await enter(page, sentry);
  await row(page, "desk").click();
  await section(page, "Screen");
  await page.getByRole("button", { name: "Join" }).click();
  const terminal = page.getByRole("region", { name: "Terminal" });
  await expect(terminal.getByRole("status")).toContainText("You type.");
  await sentry.kill();
  await expect(terminal.getByRole("status")).toContainText("The sentry is away");
  await sentry.serve();
  await expect(terminal.getByRole("status")).toContainText("You type.");
  await terminal.locator("textarea").pressSequentially("9\n");
  await expect(terminal.locator(".xterm-accessibility-tree")).toContainText("berth 9 is noted");
  await terminal.getByRole("button", { name: "Leave" }).click();

  const take = (name: string, lines: string[]) =>
    page
      .locator('input[type="file"]')
      .first()
      .setInputFiles(sentry.file(name, `${lines.join("\n")}\n`));
  const wrong = page.getByRole("alert").filter({ hasText: ".cast" });
  const head = '{"version": 2, "width": 40, "height": 6, "timestamp": 1790000000}';
  await take("no.cast", ["which berth?"]);
  await expect(wrong).toContainText("no.cast is no recording");
  await take("bad.cast", [head, "[0, 1]"]);
  await expect(wrong).toContainText('bad.cast, line 2: not [seconds, "o", text]');
  await take("wide.cast", [head.replace("40", "100000")]);
  await expect(wrong).toContainText("width and height from 1 to 1000");
  await take("good.cast", [head, '[0.1, "o", "which berth? "]', '[90, "r", "50x8"]', '[90.1, "o", "7\\r\\nnoted"]']);
  const recording = page.getByRole("region", { name: "Recording" });
  await expect(recording).toContainText("of 2.2 s"); // nobody waits for a minute and a half
  await expect(recording.locator(".xterm-accessibility-tree")).toContainText("noted");
  await expect(recording.getByRole("listitem")).toHaveCount(8);
  await recording.getByRole("button", { name: "Play again" }).click();
  await expect(recording.getByRole("listitem")).toHaveCount(6);
  await recording.getByRole("button", { name: "Pause" }).click();
  await recording.getByRole("button", { name: "Close" }).click();
  await expect(page.getByRole("button", { name: "Join" })).toBeVisible();
});

test("a service's window is seen, and its dialog answered", async ({ page, sentry }) => {
  test.skip(sentry.account !== "nobody", "a display of its own needs root");
  sentry.calm(
    ...["wrap", "desk", "--account", sentry.account, "--window", "400x200", "--start", "--"],
    ...["/usr/bin/xmessage", "-geometry", "400x200+0+0", "-buttons", "open:0,leave:1", "Open the quay gate?"],
  );
  await enter(page, sentry);
  await row(page, "desk").click();
  await section(page, "Screen");
  await page.getByRole("button", { name: "See its window" }).click();
  const there = page.getByRole("region", { name: "Window" });
  await expect(there.getByRole("status")).toContainText("Pointer and keys go to it.");
  const drawn = there.locator("canvas");
  await expect(drawn).toBeVisible();
  /** Dark points of the picture by their places, as parts of it: what is written there. */
  const dark = () =>
    drawn.evaluate((canvas: HTMLCanvasElement) => {
      if (canvas.width === 0) return 0; // it has only been joined
      const { data } = canvas.getContext("2d")?.getImageData(0, 0, canvas.width, canvas.height) ?? { data: [] };
      return [...data].filter((value, i) => i % 4 === 0 && value < 128).length / (data.length / 4);
    });
  await expect.poll(dark).toBeGreaterThan(0.005);
  expect(await dark()).toBeLessThan(0.5);

  // Whoever only sees does nothing there.
  const click = async () => {
    const box = await drawn.boundingBox();
    if (!box) throw new Error("the window is not there");
    // Its first button, at the left below the text.
    await page.mouse.click(box.x + (box.width * 24) / 400, box.y + (box.height * 188) / 200);
  };
  await there.getByRole("button", { name: "Only see" }).click();
  await expect(there.getByRole("status")).toContainText("You see it.");
  await expect.poll(dark).toBeGreaterThan(0.005);
  await click();
  await there.getByRole("button", { name: "Act here" }).click();
  await expect(there.getByRole("status")).toContainText("Pointer and keys go to it.");
  await expect.poll(dark).toBeGreaterThan(0.005);
  await click();
  await section(page, "Logbook");
  await expect(page.getByText(/Run 1 exited with code 0/).first()).toBeVisible();
  await expect(page.getByText("Somebody acted at its window.").first()).toBeVisible();

  // What it showed last is kept with its run.
  await section(page, "Runs");
  await page.getByRole("button", { name: "+ 1", exact: true }).click();
  const kept = page.getByRole("img", { name: "What run 1 showed last" });
  await expect.poll(() => kept.evaluate((picture: HTMLImageElement) => picture.naturalWidth)).toBe(400);
});

test("a dialog is noticed in the list, and answered on a phone", async ({ page, sentry }) => {
  test.skip(sentry.account !== "nobody", "a display of its own needs root");
  const program = sentry.file(
    "desk.tcl",
    'wm geometry . 700x400+0+0; after 200 { puts "paper: [tk_messageBox -title Paper -type yesno -message {Go on without paper?}]"; exit }\n',
  );
  sentry.calm(
    ...["wrap", "desk", "--account", sentry.account, "--window", "700x400", "--start", "--"],
    ...["/usr/bin/wish", program],
  );
  await enter(page, sentry);
  await expect(page.getByRole("heading", { name: "Probably asks somebody" })).toBeVisible();
  await expect(row(page, "desk")).toContainText("It probably asks in a window: 'Paper'");
  await row(page, "desk").click();
  await page.setViewportSize({ width: 390, height: 844 });
  await section(page, "Screen");
  await page.getByRole("button", { name: "See its window" }).click();
  const there = page.getByRole("region", { name: "Window" });
  await expect(there.getByRole("status")).toContainText("Pointer and keys go to it.");
  const drawn = there.locator("canvas");
  await expect.poll(async () => ((await drawn.boundingBox())?.width ?? 0) > 100).toBe(true);
  const box = await drawn.boundingBox();
  if (!box) throw new Error("the window is not there");
  // All of it is on the screen, in its own form.
  expect(box.width).toBeLessThanOrEqual(390);
  expect(Math.abs(box.width / box.height - 700 / 400)).toBeLessThan(0.05);
  await drawn.press("Tab");
  await drawn.press("Enter");
  await section(page, "Logbook");
  await expect(page.getByText(/Run 1 exited with code 0/).first()).toBeVisible();
});

/** What every key is called that a person may set, as the sentry describes a definition. */
async function titles(page: Page): Promise<string[]> {
  type Key = { title: string; properties?: Record<string, Key>; "x-kinds"?: string[] };
  const schema = (await (
    await page.request.get(new URL("/api/definition.schema.json", page.url()).href)
  ).json()) as Key;
  const of = (key: Key): string[] =>
    key.properties && !key["x-kinds"] ? Object.values(key.properties).flatMap(of) : [key.title];
  return Object.entries(schema.properties ?? {})
    .filter(([name]) => !["format", "accept"].includes(name))
    .flatMap(([, key]) => of(key));
}

test("the wrap form checks while one types, rehearses, and leads to the running service", async ({ page, sentry }) => {
  const program = sentry.file(
    "ledger.sh",
    '#!/bin/sh\nprintf "%s\\n" "$GREETING" "$@"\necho careful >&2\ntrap "sleep 1.2; exit 0" TERM\nwhile :; do sleep 0.05; done\n',
  );
  await enter(page, sentry);
  await page.getByRole("navigation").getByText("Wrap a program").click();
  const found = page.getByRole("complementary", { name: "Checked while you type" });
  await expect(found).toContainText("Nothing to check yet");
  for (const title of await titles(page))
    await expect(page.locator("form").getByText(title, { exact: true })).not.toHaveCount(0);
  await page.getByRole("textbox", { name: "Name" }).fill("Fare ledger");
  await path(page, "Program").fill("/srv/skerry/nothing");
  await page.getByRole("textbox", { name: "Account" }).fill(sentry.account);
  await expect(found).toContainText("There is no program at /srv/skerry/nothing.");
  await page.getByLabel("Memory", { exact: true }).fill("plenty");
  await expect(page.getByText("'plenty'; allowed: an amount such as 64 MiB").first()).toBeVisible();
  await page.getByLabel("Memory", { exact: true }).fill("64 MiB");
  await path(page, "Program").fill(program);
  await page.getByLabel("Arguments").fill("--book\nday book");
  await page.getByLabel("Environment").fill("GREETING=god dag = ja");
  const stop = page.getByRole("group", { name: "Clean stop" });
  await stop.getByRole("button", { name: "Add", exact: true }).click();
  await stop.getByLabel("Which").selectOption("TERM");
  await stop.getByLabel("Wait").fill("2 s");
  const watched = page.getByRole("group", { name: "Watched while it runs" });
  await watched.getByRole("button", { name: "Add", exact: true }).click();
  await watched.getByLabel("Kind").selectOption("silent-for");
  await watched.getByLabel("Which").fill("soon");
  await expect(watched.getByText("'soon'; allowed: a length of time")).toBeVisible();
  await watched.getByLabel("Which").fill("1 h");
  await page.getByLabel("Codes and signals that mean something").fill("75=again\nSEGV=hold");
  await expect(found.getByRole("status")).toContainText("nothing stands in its way");

  await page.getByLabel("For how long").fill("1s");
  await page.getByRole("button", { name: "Rehearse" }).click();
  await expect(page.getByLabel("What it prints")).toContainText("god dag = ja");
  await expect(page.getByLabel("What it prints")).toContainText("! careful");
  await expect(page.getByText("It stayed up for")).toBeVisible();
  await page.getByRole("button", { name: "Take over what is proposed" }).click();
  await expect(stop.getByLabel("Wait")).toHaveValue("10 s");
  await expect(found.getByText("calm wrap fare-ledger --title 'Fare ledger'")).toBeVisible();

  await page.getByRole("button", { name: "Wrap", exact: true }).click();
  await expect(page.getByRole("heading", { name: "Fare ledger" })).toBeVisible();
  for (const line of ["god dag = ja", "--book", "day book"])
    await expect(page.getByLabel("Output").getByText(line, { exact: true })).toBeVisible();
  await section(page, "Definition");
  await expect(page.getByRole("row", { name: /resources.memory 64 MiB 64 MiB/ })).toBeVisible();
  await page.getByRole("button", { name: "Check it now" }).click();
  await expect(page.getByText("Fare ledger could be started")).toBeVisible();
});

test("a secret goes in on the service's page and is never shown again", async ({ page, sentry }) => {
  const program = sentry.file("tells.sh", '#!/bin/sh\necho "key: $LEDGER_KEY"\nexec sleep 600\n');
  sentry.calm("wrap", "Fare ledger", "--account", sentry.account, "--secret", "LEDGER_KEY", "--", program);
  await enter(page, sentry);
  await row(page, "fare-ledger").click();
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(page.getByRole("status").getByText("Its secret LEDGER_KEY has no value yet")).toBeVisible();
  await section(page, "Access");
  await page.getByLabel("LEDGER_KEY").fill("herring-4711");
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByRole("button", { name: "Replace" })).toBeVisible();
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await section(page, "Output");
  await expect(page.getByLabel("Output", { exact: true })).toContainText("key: ****");
  expect(await page.content()).not.toContain("herring-4711");
  await section(page, "Access");
  await page.getByRole("button", { name: "Remove the value of LEDGER_KEY" }).click();
  await expect(page.getByText("no value yet")).toBeVisible();
  expect(JSON.parse(sentry.calm("secret", "list", "fare-ledger", "--json"))[0]["has-value"]).toBe(false);
});

test("a part that is gone since the page was opened is loaded with the page anew", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  await enter(page, sentry);
  await page.route(/ServicePage-.*\.js/, (route) => route.abort());
  await row(page, "tide").click();
  await expect(page.getByRole("alert")).toContainText("the sentry has another version since");
  await page.unroute(/ServicePage-.*\.js/);
  await page.getByRole("button", { name: "Load it anew" }).click();
  await expect(page.getByRole("heading", { name: "tide" })).toBeVisible();
  // What failed on purpose is told of in the browser's console, too: by the browser, or by the router that has no page.
  const told = /dynamically imported module|undefined \(reading 'default'\)/;
  expect(complaints.splice(0).filter((one) => !told.test(one))).toEqual([]);
});

test("what changed when is seen, and an earlier revision made to hold again", async ({ page, sentry }) => {
  const lamp = sentry.file(
    "office/lamp.yaml",
    `name: lamp\nprogram: { path: /bin/sleep, arguments: [600] }\nidentity: { account: ${sentry.account} }\n`,
  );
  const files = dirname(lamp);
  sentry.calm("settle", files, "--yes");
  sentry.calm("adjust", "lamp", "--title", "Lamp of the quay");
  await enter(page, sentry);
  await row(page, "lamp").click();
  await section(page, "History");
  const history = page.locator("h2 + .sheet");
  await expect(history).toContainText(`It differs from its files in ${files} since`);
  await expect(history.getByRole("row")).toHaveCount(3);
  await expect(history).toContainText("title is now 'Lamp of the quay' (was 'lamp')");
  await page.getByRole("button", { name: "What if revision 1 held again" }).click();
  await expect(history).toContainText("title is now 'lamp' (was 'Lamp of the quay')");
  await page.getByRole("button", { name: "Revision 1 is to hold again" }).click();
  await expect(history.getByRole("row")).toHaveCount(4);
  await expect(history).not.toContainText("It differs from its files");
});

test("new program files are looked at, put in, found wanting, and the version before comes back", async ({
  page,
  sentry,
}) => {
  const put = (at: string, text: string) => {
    mkdirSync(join(sentry.root, at, "board"), { recursive: true, mode: 0o755 });
    writeFileSync(join(sentry.root, at, "board", "board.sh"), `#!/bin/sh\n${text}\n`, { mode: 0o755 });
    return join(sentry.root, at, "board");
  };
  const home = put("home", "echo board one; exec sleep 600");
  sentry.calm(
    ...["wrap", "Board", "--account", sentry.account, "--proof", "up-for:100ms", "--swap-watch", "0s", "--start"],
    ...["--", join(home, "board.sh")],
  );
  await enter(page, sentry);
  await row(page, "board").click();
  await section(page, "Files");
  const files = page.getByLabel(/New files for/);
  await files.fill("/nowhere");
  await page.getByRole("button", { name: "Look at them" }).click();
  await expect(page.getByRole("alert")).toContainText("/nowhere");

  await files.fill(put("two", "echo board two; exec sleep 600"));
  await page.getByRole("button", { name: "Look at them" }).click();
  const plan = page.getByLabel("What new files would change");
  await expect(plan).toContainText("board.sh");
  await expect(plan).toContainText("Run 1 is stopped");
  await plan.getByRole("button", { name: "Put them in" }).click();
  await expect(page.getByText("Board has version 2 of its files.")).toBeVisible();
  await section(page, "Overview");
  await expect(page.getByLabel("Output")).toContainText("board two");
  await section(page, "Files");

  await files.fill(put("three", "echo no timetable; exit 3"));
  await page.getByRole("button", { name: "Look at them" }).click();
  await page.getByRole("button", { name: "Put them in" }).click();
  const said = page.getByText("Board keeps its files of before");
  await expect(said).toContainText("run 3 exited with code 3");
  await expect(said).toContainText("no timetable");

  await page.getByRole("row", { name: /^1 / }).getByRole("button", { name: "Bring it back…" }).click();
  await plan.getByRole("button", { name: "Put them in" }).click();
  await expect(page.getByText("Board has version 1 of its files.")).toBeVisible();
});

// What only dark colours can break: the rules of axe that look at colours.
const ofColours = ["color-contrast", "link-in-text-block"];

test("every page can be read by everyone, in light and in dark", async ({ page, sentry }) => {
  sentry.wrap("gate-counter", "echo one; exit 3", "--pause", "0s");
  sentry.wrap("departure-board", "echo ready; exec sleep 600", "--rhythm", "restart:every 1 h", "--start");
  try {
    sentry.calm("start", "gate-counter");
  } catch {
    // Held, so that the colours for it are on the page.
  }
  await enter(page, sentry);
  const origin = new URL(page.url()).origin;
  for (const path of [
    "/",
    "/services/departure-board",
    "/services/gate-counter",
    ...["output", "runs", "definition", "change", "files", "history", "logbook", "access"].map(
      (part) => `/services/departure-board/${part}`,
    ),
    "/wrap",
    "/drill",
    "/host",
    "/ahead",
    "/alerts",
    "/report",
    "/logbook",
    "/as-files",
  ]) {
    await page.goto(origin + path);
    await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
    await expect(page.getByRole("status").first()).toContainText("live");
    for (const scheme of ["light", "dark"] as const) {
      await page.emulateMedia({ colorScheme: scheme });
      const axe = new AxeBuilder({ page });
      const found = await (scheme === "light" ? axe : axe.withRules(ofColours)).analyze();
      expect(
        found.violations.map(
          (violation) =>
            `${path}, ${scheme}: ${violation.id}: ${violation.nodes.map((node) => node.target).join(", ")}`,
        ),
      ).toEqual([]);
    }
  }
});

test("a drill is looked at, played, and drawn as a time line; what others need is not stopped unasked", async ({
  page,
  sentry,
}) => {
  sentry.wrap("tide", "exec sleep 600", "--at", "boot", "--proof", "up-for:0s", "--start");
  sentry.wrap(
    "board",
    "sleep 0.2; echo open; exec sleep 600",
    "--at",
    "boot",
    "--need",
    "service:tide",
    "--proof",
    "output:^open$",
    "--start",
  );
  sentry.wrap("by-hand", "exec sleep 600", "--proof", "up-for:0s", "--start");
  await enter(page, sentry);
  await page.getByRole("link", { name: "Begin and drill" }).click();
  await expect(page.getByText("No boot and no drill has been seen yet.")).toBeVisible();
  await page.getByRole("button", { name: "Show what a drill would do" }).click();
  await expect(page.getByText("A boot would not bring back: by-hand")).toBeVisible();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
  const { pid } = JSON.parse(sentry.calm("show", "tide", "--json"));
  await page.getByRole("button", { name: "Interrupt 3 services and drill now" }).click();
  await expect(page.getByText("2 of 2 services ready within")).toBeVisible();
  await expect(page.getByText(`before it was ${pid}.`)).toBeVisible();
  const bars = page.getByRole("figure", { name: "Time line" }).getByRole("listitem");
  await expect(bars).toHaveCount(2);
  await expect(bars.last()).toContainText("board: waited");
  await expect(bars.last()).toContainText("it printed 'open'");
  const [tide, board] = await Promise.all([0, 1].map((index) => bars.nth(index).locator("b.proven").boundingBox()));
  expect(tide?.x ?? 0).toBeLessThan(board?.x ?? 0);
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);

  await bars.first().getByRole("link").click();
  await expect(page.getByRole("definition").filter({ hasText: /^it has stayed up for 0 s/ })).toBeVisible();
  await page.getByRole("button", { name: "Stop", exact: true }).click();
  await expect(page.getByText("board needs tide and is running; nothing was stopped.")).toBeVisible();
  await page.getByRole("button", { name: "Stop them too, in order" }).click();
  await expect(page.getByText("board, which needs it, was stopped first.")).toBeVisible();
});

test("needs and proof are given in the form, and what is wrong stands beside its field", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  await enter(page, sentry);
  await page.getByRole("link", { name: "Wrap a program" }).click();
  await page.getByRole("textbox", { name: "Name" }).fill("board");
  await path(page, "Program").fill(sentry.file("board", "#!/bin/sh\necho open; exec sleep 600\n"));
  await page.getByRole("textbox", { name: "Account" }).fill(sentry.account);
  const needs = page.getByRole("group", { name: "Needs" });
  await needs.getByRole("button", { name: "Add", exact: true }).click();
  await needs.getByLabel("Kind").selectOption("service");
  await needs.getByLabel("Which").selectOption("tide");
  const proof = page.getByRole("group", { name: "Proof that it serves" });
  await proof.getByRole("button", { name: "Choose" }).click();
  await proof.getByLabel("Kind").selectOption("tcp");
  await proof.getByLabel("Which").fill("no port");
  await expect(proof.getByText("'no port'; allowed: a host and a port")).toBeVisible();
  await expect(page.getByText("begin.proof.tcp: 'no port'; allowed: a host and a port")).toBeVisible();
  await proof.getByLabel("Kind").selectOption("output");
  await proof.getByLabel("Which").fill("^open$");
  await page.getByRole("button", { name: "Wrap", exact: true }).click();
  await expect(page.getByRole("definition").filter({ hasText: /^it printed 'open'/ })).toBeVisible();
  await expect(page.getByRole("definition").filter({ hasText: /^tide$/ })).toBeVisible();
  expect(JSON.parse(sentry.calm("show", "tide", "--json")).state).toBe("running");
});

test("the logbook is narrowed, goes on, and is proven", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600", "--proof", "up-for:0s", "--start");
  sentry.wrap("gate", "exec sleep 600");
  await enter(page, sentry);
  await page.getByRole("link", { name: "Logbook" }).click();
  const rows = page.getByRole("table").getByRole("row");
  await expect(rows.filter({ hasText: "Start requested." })).toHaveCount(1);
  await page.getByText("What was changed", { exact: true }).click();
  await expect(rows.filter({ hasText: "Start requested." })).toHaveCount(0);
  await expect(rows.filter({ hasText: "Wrapped:" })).toHaveCount(2);
  await page.getByRole("textbox", { name: "Find" }).fill("until now");
  await expect(page.getByText("Nothing in the logbook fits.")).toBeVisible();
  sentry.calm("rename", "gate", "North gate"); // what comes is judged, too
  await expect(rows.filter({ hasText: "until now it was called gate" })).toHaveCount(1);
  await page.getByRole("textbox", { name: "Find" }).fill("");
  await page.getByText("All", { exact: true }).click();
  await page.getByRole("combobox", { name: "As bad as this, or worse" }).click();
  await page.getByRole("option", { name: "warning, worse" }).click();
  await expect(page.getByText("Nothing in the logbook fits.")).toBeVisible();
  await page.getByRole("button", { name: "Prove it" }).click();
  await expect(page.getByText(/^It is as it was written: \d+ entries/)).toBeVisible();
  const [file] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("button", { name: "Download as CSV" }).click(),
  ]);
  expect(file.suggestedFilename()).toBe("logbook.csv");
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("an alert comes in by itself, somebody looks at it, and a recipient is tried", async ({ page, sentry }) => {
  const fault = sentry.file("fault", "");
  sentry.wrap("fare-ledger", `[ -e "${fault}" ] && exit 3; exec sleep 600`, "--code", "3=hold", "--proof", "up-for:0s");
  await enter(page, sentry);
  await expect(page.getByText("Nobody is told when a service needs attention")).toBeVisible();
  await page.getByRole("navigation").getByText("Alerts").click();
  await expect(page.getByText("No alert goes on.")).toBeVisible();
  await expect(page.getByText("Nobody: no recipient is set")).toBeVisible();
  sentry.settings(
    "alerts: { steady: 1 s }\ntell:\n  - { command: [/bin/sh, -c, 'echo the bell rings; cat'], name: bell }\n",
  );
  await expect(page.getByText("the command /bin/sh, about all services.")).toBeVisible({ timeout: 15_000 });
  sentry.tries("start", "fare-ledger"); // it may be up for a moment before it fails
  const alert = page.locator("details.alert");
  await expect(alert).toContainText("▲ fare-ledger is on hold");
  await expect(alert).toContainText("Told: bell.");
  await alert.getByLabel("What others should know").fill("the book is on my desk");
  await alert.getByRole("button", { name: "I look at it" }).click();
  await expect(alert.getByRole("status")).toContainText("is yours");
  await expect(alert).toContainText("looks at it since");
  await expect(alert).toContainText("the book is on my desk");
  const row = page.locator(".message-rows .row", { hasText: "fare-ledger is on hold" });
  await expect(row).toContainText("delivered: /bin/sh took it", { timeout: 15_000 });
  await row.locator("summary").click();
  await expect(row).toContainText("calm release fare-ledger");
  await page.getByRole("button", { name: "Try bell" }).click();
  await expect(page.locator(".recipient-rows")).toContainText("the bell rings");
  await expect(page.locator(".recipient-rows")).toContainText("A trial went to bell");
  sentry.calm("adjust", "fare-ledger", "--code", "4=hold");
  execFileSync("rm", [fault]);
  sentry.calm("release", "fare-ledger");
  await expect(page.getByRole("heading", { name: "Over" })).toBeVisible({ timeout: 15_000 });
  await expect(page.getByText("No alert goes on.")).toBeVisible();
  await page.getByRole("navigation").getByText("Report").click();
  await expect(page.getByText("fare-ledger is on hold; over at")).toBeVisible();
  await expect(page.getByRole("img", { name: /^fare-ledger: .*failed/ })).toBeVisible();
  await page.goto(`${new URL(page.url()).origin}/alerts/1`);
  await expect(alert).toContainText("over at");
  await expect(alert).toHaveAttribute("open", "");
});

test("an alert is put aside, and what a program asked for is done with", async ({ page, sentry }) => {
  sentry.settings("tell:\n  - { command: [/bin/cat], name: bell }\n");
  sentry.wrap(
    "ticket-machine",
    `curl -s --unix-socket "$CALM_SAY" -d 'paper is out' http://calm/asks; exec sleep 600`,
    "--proof",
    "up-for:0s",
    "--start",
  );
  await enter(page, sentry);
  await page.getByRole("navigation").getByText("Alerts").click();
  const alert = page.locator("details.alert");
  await expect(alert).toContainText("paper is out", { timeout: 15_000 });
  await alert.getByRole("button", { name: "Not for two hours" }).click();
  await expect(alert.getByRole("status")).toContainText("until");
  await expect(alert).toContainText("put aside until");
  await alert.getByRole("button", { name: "It is done with" }).click();
  await expect(page.getByText("No alert goes on.")).toBeVisible();
  await expect(page.getByRole("heading", { name: "Over" })).toBeVisible();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("what is planned is seen ahead, skipped and taken now; the form shows the moments before they are saved", async ({
  page,
  sentry,
}) => {
  sentry.wrap("tide-pull", "echo a reading", "--kind", "periodic", "--rhythm", "run:daily at 02:30,zone=Asia/Kolkata");
  sentry.wrap("spooler", "exec sleep 600", "--rhythm", "restart:every 3 h", "--proof", "up-for:0s", "--start");
  sentry.calm("adjust", "spooler", "--rhythm", "restart:every 3 h", "--rhythm", "quiet:on sun at 02:00,for=2h");
  await enter(page, sentry);
  await page.getByRole("navigation").getByText("Ahead").click();
  await expect(page.locator(".row", { hasText: "on sun at 02:00" })).toContainText("2 h");
  const axis = page.getByRole("figure");
  await expect(axis).toContainText("tide-pull: run daily at 02:30");
  await expect(axis).toContainText("spooler: restart every 3 h");
  await page.getByText("30 days").click();
  await expect(axis).toContainText("tide-pull: run daily at 02:30, 30 moments");
  const pull = page.locator(".row", { hasText: "tide-pull" });
  await pull.getByRole("button", { name: "Skip" }).click();
  await expect(pull.getByRole("status")).toContainText("is skipped");
  await pull.getByRole("button", { name: "Now" }).click();
  await expect(pull.getByRole("status")).toContainText("is taken now");
  await pull.getByRole("link").click();
  await expect(page.getByText("Resting: its next run is at")).toBeVisible();
  await expect(page.getByLabel("Output")).toContainText("a reading");
  await page.getByRole("button", { name: "Run now" }).click();
  await expect(page.getByText("tide-pull is done: run 2")).toBeVisible();
  await page.getByRole("button", { name: "Stop", exact: true }).click();
  await expect(page.getByText("Its rhythm is at rest").first()).toBeVisible();

  await page.getByRole("navigation").getByText("Wrap a program").click();
  await page.getByRole("textbox", { name: "Name" }).fill("export");
  await path(page, "Program").fill("/bin/true");
  await page.getByLabel("Kind", { exact: true }).first().selectOption("periodic");
  const planned = page.getByRole("group", { name: "Planned moments" });
  await planned.getByRole("button", { name: "Add", exact: true }).click();
  await planned.getByLabel("Which").fill("on fridays at 06:00");
  await expect(planned.getByText("there is no fridays").first()).toBeVisible();
  await planned.getByLabel("Which").fill("on fri at 06:00");
  const moments = page.getByRole("region", { name: "Next moments" });
  await expect(moments.getByText(/^Fri .* 06:00:00$/)).toHaveCount(10);
});

test("a definition is changed in the form: the difference first, and nothing of another's is overwritten", async ({
  page,
  sentry,
}) => {
  sentry.wrap("Quay lamp", 'echo "lit $LAMP"; exec sleep 600', "--environment", "LAMP=white", "--start");
  await enter(page, sentry);
  await row(page, "quay-lamp").click();
  await section(page, "Change");
  const change = page.getByRole("complementary", { name: "What would change" });
  await expect(page.getByLabel("Environment", { exact: true })).toHaveValue("LAMP=white");
  await page.getByLabel("Environment", { exact: true }).fill("LAMP=green");
  await expect(change).toContainText("LAMP is now 'green' (was 'white')");
  await page.getByLabel("Find a setting").fill("memory");
  await page.getByLabel("Memory", { exact: true }).fill("plenty");
  await expect(page.getByText("'plenty'; allowed: an amount such as 64 MiB").first()).toBeVisible();
  await expect(change.getByRole("button", { name: "Save" })).toBeDisabled();
  await page.getByLabel("Memory", { exact: true }).fill("128 MiB");
  await expect(change).toContainText("resources.memory is now '128 MiB'");

  // Somebody at the host is quicker.
  sentry.calm("adjust", "quay-lamp", "--notes", "by the north mole");
  await change.getByRole("button", { name: "Save" }).click();
  await expect(change.getByRole("alert")).toContainText("Somebody else has changed it meanwhile");
  expect(JSON.parse(sentry.calm("show", "quay-lamp", "--json")).definition.resources?.memory).toBeUndefined();
  await change.getByRole("button", { name: "Go on from what it is now" }).click();
  await expect(change).toContainText("resources.memory is now '128 MiB'");
  await expect(change.getByRole("status").first()).not.toContainText("notes");
  // The file beside the form says the same, and the form follows it.
  const file = page.getByLabel("As a file");
  await expect(file).toHaveValue(/notes: by the north mole/);
  const text = await file.inputValue();
  await file.fill(text.replace("memory:", "memoryy:"));
  await expect(page.getByText("memoryy: not a key of this place").first()).toBeVisible();
  await file.fill(text.replace("128 MiB", "96 MiB"));
  await expect(page.getByLabel("Memory", { exact: true })).toHaveValue("96 MiB");
  await expect(change.getByRole("status").first()).toContainText("resources.memory is now '96 MiB'");
  await change.getByRole("button", { name: "Save" }).click();
  await expect(change.getByRole("status").first()).toContainText("✓");
  const { definition } = JSON.parse(sentry.calm("show", "quay-lamp", "--json"));
  expect(definition.program.environment).toEqual({ LAMP: "green" });
  expect(definition.notes).toBe("by the north mole");
  expect(definition.resources.memory).toBe("96 MiB");
  await section(page, "Overview");
  await expect(page.getByRole("definition").filter({ hasText: /program.environment.* take effect/ })).toBeVisible();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("a service is unwrapped: what goes and what stays is said first", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600", "--proof", "up-for:0s", "--start");
  sentry.wrap("board", "exec sleep 600", "--need", "service:tide");
  await enter(page, sentry);
  await row(page, "tide").click();
  await section(page, "Definition");
  await page.getByRole("button", { name: "Unwrap…" }).click();
  await expect(page.getByRole("alert")).toContainText("board");
  await page.getByRole("button", { name: "Leave it as it is" }).click();
  await page.getByRole("link", { name: "Services" }).click();
  await row(page, "board").click();
  await section(page, "Definition");
  await page.getByRole("button", { name: "Unwrap…" }).click();
  await page.getByRole("button", { name: "Unwrap it" }).click();
  await expect(row(page, "board")).toHaveCount(0);
  await expect(row(page, "tide")).toContainText("running");
});

test("a service that others need is unwrapped all the same, when that is asked for", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600", "--proof", "up-for:0s", "--start");
  sentry.wrap("board", "exec sleep 600", "--need", "service:tide", "--proof", "up-for:0s", "--start");
  await enter(page, sentry);
  await row(page, "tide").click();
  await section(page, "Definition");
  await page.getByRole("button", { name: "Unwrap…" }).click();
  await page.getByRole("button", { name: "Unwrap it although others need it" }).click();
  await expect(row(page, "tide")).toHaveCount(0);
  await expect(row(page, "board")).toContainText("running");
});

test("a service gets another name: what goes with it is said first", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  sentry.wrap("board", "exec sleep 600", "--need", "service:tide");
  await enter(page, sentry);
  await row(page, "tide").click();
  await section(page, "Definition");
  const rename = page.locator("form").filter({ has: page.getByLabel("Instead of tide") });
  await rename.getByLabel("Instead of tide").fill("board");
  await rename.getByRole("button", { name: "Rename…" }).click();
  await expect(rename.getByRole("alert")).toContainText("board");
  await rename.getByLabel("Instead of tide").fill("tide-table");
  await expect(rename.getByRole("alert")).toHaveCount(0);
  await rename.getByRole("button", { name: "Rename…" }).click();
  await expect(rename.getByRole("status")).toContainText("board"); // which needs it
  expect(JSON.parse(sentry.calm("list", "--json")).map((one: { name: string }) => one.name)).toContain("tide");
  await rename.getByRole("button", { name: "Rename it" }).click();
  await expect(page).toHaveURL(/\/services\/tide-table$/);
  expect(JSON.parse(sentry.calm("show", "board", "--json")).definition.begin.needs).toMatchObject([
    { service: "tide-table" },
  ]);
});

test("what is rarely asked for stands under More, and says what came of it", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600", "--proof", "up-for:0s", "--rhythm", "restart:every 1 h", "--start");
  await enter(page, sentry);
  await row(page, "tide").click();
  const more = async (item: string) => {
    await page.getByRole("button", { name: "More…" }).click();
    await page.getByRole("menuitem", { name: item }).click();
  };
  const view = () => JSON.parse(sentry.calm("show", "tide", "--json"));
  await more("Keep quiet for 4 h");
  await expect.poll(() => view()["quiet-until"]).toBeTruthy();
  await more("Be told again now");
  await expect.poll(() => view()["quiet-until"] ?? null).toBeNull();
  await more("Pause for 30 min");
  await expect.poll(() => view()["watches-paused-until"]).toBeTruthy();
  await more("Act on them again now");
  await expect.poll(() => view()["watches-paused-until"] ?? null).toBeNull();
  const moment = view()["next-moment"];
  await more("Leave it out, this once");
  await expect.poll(() => view()["next-moment"]).not.toBe(moment);
  await more("Take it now");
  await expect.poll(() => view().run).toBe(2);
  await page.getByRole("button", { name: "More…" }).click();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("at the host: accounts, sessions and the sentry's own secrets", async ({ page, browser, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  const other = await browser.newPage();
  await other.goto(sentry.calm("open").trim());
  await expect(other.getByRole("status").first()).toContainText("live");
  await enter(page, sentry);
  await page.getByRole("link", { name: "Host", exact: true }).click();
  if (sentry.account === "nobody") {
    await page.getByRole("button", { name: "Forbid nobody" }).click();
    await expect(page.getByText("▲ not permitted")).toBeVisible();
    await page.getByRole("button", { name: "Permit nobody" }).click();
    await expect(page.getByRole("button", { name: "Forbid nobody" })).toBeVisible();
    await page.getByLabel("A new account").fill("Not A Name");
    await page.getByRole("button", { name: "Make it" }).click();
    await expect(page.getByRole("alert")).toContainText("allowed");
    const name = `quay-${process.pid}`;
    await page.getByLabel("A new account").fill(name);
    await page.getByRole("button", { name: "Make it" }).click();
    await page.getByRole("button", { name: `Remove ${name}` }).click();
    await expect(page.getByRole("button", { name: `Remove ${name}` })).toHaveCount(0);
  }
  await page.getByRole("button", { name: /^End the session of/ }).click();
  await expect(other.getByText("calm open")).toBeVisible();
  await other.close();
  await page.getByLabel("Name", { exact: true }).fill("MAIL_PASSWORD");
  await page.getByLabel("Value", { exact: true }).fill("ebb and flow");
  await page.getByRole("button", { name: "Seal it" }).click();
  await expect(page.getByText("sealed").first()).toBeVisible();
  await page.getByRole("button", { name: "Remove MAIL_PASSWORD" }).click();
  await expect(page.getByRole("button", { name: "Remove MAIL_PASSWORD" })).toHaveCount(0);
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("a path is completed as the account sees it", async ({ page, sentry }) => {
  const quay = dirname(sentry.file("srv/quay/board.sh", "#!/bin/sh\nexec sleep 600\n"));
  sentry.file("srv/quay/bollards.txt", "12\n");
  sentry.file("srv/quay/locked/gate", "shut\n");
  chmodSync(join(quay, "bollards.txt"), 0o644);
  chmodSync(join(quay, "locked"), 0o700);
  await enter(page, sentry);
  await page.getByRole("navigation").getByText("Wrap a program").click();
  await page.getByRole("textbox", { name: "Account" }).fill(sentry.account);
  const program = path(page, "Program");
  const offered = page.locator('[role="option"]');
  await program.fill(`${quay}/bo`);
  await expect(offered).toHaveText([`${quay}/board.sh program`, `${quay}/bollards.txt `]);
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
  await program.press("ArrowDown");
  await program.press("Enter");
  await expect(program).toHaveValue(`${quay}/board.sh`);
  const directory = path(page, "Directory");
  await directory.fill(`${dirname(quay)}/q`);
  await offered.filter({ hasText: `${quay}/` }).click();
  await expect(offered.filter({ hasText: "locked/" })).toBeVisible();
  await directory.fill(`${quay}/none`);
  await expect(page.getByText(`Nothing in ${quay}/ begins with none.`)).toBeVisible();
  if (sentry.account === "nobody") {
    await directory.fill(`${quay}/locked/`);
    await expect(page.getByText(`${quay}/locked/ cannot be looked into by nobody: permission denied`)).toBeVisible();
    await expect(offered).toHaveCount(0);
  }
});

test("services as files: compared, settled, undone, and taken along", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  await enter(page, sentry);
  await page.getByRole("link", { name: "As files" }).click();
  await expect(page.getByText("This machine was never brought to files.")).toBeVisible();
  const files = page.locator('input[type="file"]').first();
  const definition = (more: string) =>
    `name: board\nprogram: { path: /bin/sleep, arguments: ["600"] }\nidentity: { account: ${sentry.account} }\n${more}`;
  const give = (more: string) =>
    files.setInputFiles({ name: "board.yaml", mimeType: "text/yaml", buffer: Buffer.from(definition(more)) });
  await give("begni: {}\n");
  await page.getByRole("button", { name: "Compare" }).click();
  await expect(page.getByRole("alert")).toContainText("begni");
  await give("begin: { at: boot, proof: { up-for: 0s } }\n");
  await page.getByRole("button", { name: "Compare" }).click();
  const difference = page.getByRole("region", { name: "Where they differ" });
  await expect(difference).toContainText("wrap and start it");
  await expect(difference).toContainText("In no file, and left as they are: tide.");
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
  await difference.getByRole("button", { name: "Settle: 2 steps" }).click();
  const latest = page.getByRole("region", { name: "The latest settling" });
  await expect(latest).toContainText("Settled: 1 service is as the files say.");
  expect(JSON.parse(sentry.calm("show", "board", "--json")).state).toBe("running");
  await page.getByRole("button", { name: "Compare" }).click();
  await expect(difference).toContainText("✓ The machine is as the file says.");
  await page.locator("summary", { hasText: "board.yaml" }).click();
  const [file] = await Promise.all([
    page.waitForEvent("download"),
    page.locator("details[open]").getByRole("button", { name: "Save it" }).click(),
  ]);
  expect(readFileSync(await file.path(), "utf8")).toContain("name: board");
  await latest.getByRole("button", { name: "Undo it" }).click();
  await expect(latest).toContainText("What settling 1 did is undone.");
  expect(JSON.parse(sentry.calm("list", "--json")).map((one: { name: string }) => one.name)).toEqual(["tide"]);
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

test("over a slow line every page comes, and what is asked for is done", async ({ page, sentry }) => {
  sentry.wrap("tide", "echo ebb; exec sleep 600", "--proof", "up-for:0s");
  const session = await page.context().newCDPSession(page);
  await session.send("Network.enable");
  const throughput = 1_000_000 / 8;
  await session.send("Network.emulateNetworkConditions", {
    offline: false,
    latency: 150,
    downloadThroughput: throughput,
    uploadThroughput: throughput,
  });
  await enter(page, sentry);
  await row(page, "tide").click();
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(page.getByText("tide is running: run 1").first()).toBeVisible();
  await section(page, "Output");
  await expect(page.getByText("ebb", { exact: true }).first()).toBeVisible();
  await section(page, "Change");
  await expect(path(page, "Program")).toHaveValue("/bin/sh");
  for (const name of [
    "Wrap a program",
    "Begin and drill",
    "Ahead",
    "Alerts",
    "Report",
    "Logbook",
    "As files",
    "Host",
  ]) {
    await page.getByRole("navigation", { name: "Pages" }).getByRole("link", { name, exact: true }).click();
    await expect(page.getByRole("heading", { level: 1, name })).toBeVisible();
  }
  sentry.calm("stop", "tide");
  await page.getByRole("link", { name: "Services" }).click();
  await expect(row(page, "tide")).toContainText("stopped");
});

test.describe("elsewhere", () => {
  test.use({ timezoneId: "Pacific/Kiritimati", locale: "en-GB" });
  test("times are the host's, and one's own when that is wanted", async ({ page, sentry }) => {
    sentry.wrap("tide", "exec sleep 600");
    await enter(page, sentry);
    await page.getByRole("link", { name: "Logbook" }).click();
    const time = page.locator("td.number").first();
    const before = await time.textContent();
    await page.getByRole("button", { name: "Host's times" }).click();
    await expect(page.getByRole("button", { name: "Your times" })).toBeVisible();
    await expect.poll(() => time.textContent()).not.toBe(before);
    await page.reload();
    await page.getByRole("button", { name: "Your times" }).click();
    await expect.poll(() => time.textContent()).toBe(before);
  });
});

test("a page is printed without what is only for the screen", async ({ page, sentry }) => {
  sentry.wrap("tide", "echo ebb; exec sleep 600", "--proof", "up-for:0s", "--start");
  await enter(page, sentry);
  await page.emulateMedia({ media: "print" });
  await expect(row(page, "tide")).toBeVisible();
  await expect(page.getByRole("navigation", { name: "Pages" })).toBeHidden();
  await row(page, "tide").click();
  await expect(page.getByRole("heading", { level: 1, name: "tide" })).toBeVisible();
  await expect(page.getByRole("button", { name: "Stop", exact: true })).toBeHidden();
});

test("the list is narrowed by an address, and what is marked is acted on as one", async ({ page, sentry }) => {
  for (const name of ["till-1", "till-2", "till-3"])
    sentry.wrap(name, "exec sleep 600", "--proof", "up-for:0s", "--label", "tills");
  sentry.wrap("tide", "exec sleep 600", "--proof", "up-for:0s", "--start");
  await enter(page, sentry);
  await page.getByLabel("Find a service").fill("till");
  await expect(page.locator("[data-service]")).toHaveCount(3);
  await page.getByLabel("In which order").selectOption("name");
  await expect(page).toHaveURL(/find=till&sort=name/);
  await page.reload();
  await expect(page.locator("[data-service]")).toHaveCount(3);
  await page.getByLabel("Mark till-1").check();
  await page.getByLabel("Mark till-3").check();
  const marked = page.getByRole("region", { name: "Marked services" });
  await marked.getByRole("button", { name: "Start them", exact: true }).click();
  await expect(marked.getByRole("status")).toContainText("2");
  await expect(row(page, "till-3")).toContainText("running");
  await expect(row(page, "till-2")).toContainText("stopped");
  await marked.getByRole("button", { name: "Stop them", exact: true }).click();
  await expect(row(page, "till-1")).toContainText("stopped");
  await marked.getByRole("button", { name: "Unmark all" }).click();
  await page.getByLabel("Find a service").fill("");
  await page.getByLabel("Only in a state").selectOption("running");
  await expect(page.locator("[data-service]")).toHaveCount(1);
  const [table] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("button", { name: "Download as CSV" }).click(),
  ]);
  expect(readFileSync(await table.path(), "utf8")).toMatch(/^service,title,state.*\r\ntide,tide,running/);
  await expect(row(page, "tide").locator(".figure").first()).toContainText("iB");
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
});

/** The box that finds things has gone, and has let go of the keys: they are the page's own again. */
async function released(page: Page, box: Locator) {
  await expect(box).toBeHidden();
  await expect
    .poll(() => page.evaluate(() => document.activeElement?.closest("input, [role=dialog]") ?? null))
    .toBe(null);
}

test("by keys alone: a page, a part of a service and an act are found by a few letters", async ({ page, sentry }) => {
  sentry.wrap("Fare ledger", "exec sleep 600", "--proof", "up-for:0s");
  await enter(page, sentry);
  await expect(row(page, "fare-ledger")).toBeVisible();
  const box = page.getByRole("textbox", { name: "Find anything" });
  await page.keyboard.press("/");
  await box.fill("frldg");
  await expect(page.getByRole("button", { name: /^Fare ledger/ })).toBeVisible();
  expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/services\/fare-ledger$/);
  // The keys are the page's own: they are there when it is, and when the box has let go of them.
  await expect(page.getByRole("heading", { name: "Fare ledger" })).toBeVisible();
  await released(page, box);
  await page.keyboard.press("2");
  await expect(page).toHaveURL(/\/services\/fare-ledger\/output$/);
  await page.keyboard.press("Control+k");
  await box.fill("start ledger");
  await page.getByRole("button", { name: /^Start Fare ledger/ }).click();
  await expect(page.getByText("Fare ledger is running: run 1").first()).toBeVisible();
  await released(page, box);
  await page.keyboard.press("Control+k");
  await box.fill("host");
  await expect(page.getByRole("button", { name: /^Host/ }).first()).toBeVisible();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Host" })).toBeVisible();
  await page.getByRole("button", { name: "Is it as it was written?" }).click();
  await expect(page.getByText(/^✓ All \d+ entries/)).toBeVisible();
});

/** Goes there as somebody without a pointer does. */
async function tabTo(page: Page, target: Locator) {
  await expect(target).toBeVisible();
  for (let i = 0; i < 300; i++) {
    if (await target.evaluate((element) => element === document.activeElement)) return;
    await page.keyboard.press("Tab");
  }
  throw new Error(`no key leads to ${target}`);
}

test("a program is wrapped, stopped and changed by the keyboard alone", async ({ page, sentry }) => {
  await enter(page, sentry);
  await tabTo(page, page.getByRole("navigation", { name: "Pages" }).getByRole("link", { name: "Wrap a program" }));
  await page.keyboard.press("Enter");
  const fill = async (label: string, text: string) => {
    await tabTo(page, page.getByRole("textbox", { name: label }).or(path(page, label)));
    await page.keyboard.type(text);
  };
  await fill("Name", "tide");
  await fill("Program", "/bin/sleep");
  await fill("Arguments", "600");
  await fill("Account", sentry.account);
  await tabTo(page, page.getByRole("button", { name: "Wrap", exact: true }));
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/services\/tide$/);
  await tabTo(page, page.getByRole("button", { name: "Stop", exact: true }));
  await page.keyboard.press("Enter");
  await expect(page.getByText(/^tide is stopped/).first()).toBeVisible();
  await page.keyboard.press("5");
  await expect(page).toHaveURL(/\/change$/);
  await fill("Notes", "by the north mole");
  await tabTo(page, page.getByRole("button", { name: "Save", exact: true }));
  await page.keyboard.press("Enter");
  await expect.poll(() => JSON.parse(sentry.calm("show", "tide", "--json")).definition.notes).toBe("by the north mole");
});

/** What reaches beyond the screen, and is in nothing that can be moved within itself. */
const beyond = () => {
  const moves = (element: Element | null): boolean =>
    element !== null &&
    !element.classList.contains("frame") &&
    (getComputedStyle(element).overflowX !== "visible" || moves(element.parentElement));
  return [...document.querySelectorAll("header *, main *")]
    .filter((one) => one.getBoundingClientRect().right > window.innerWidth + 1 && !moves(one.parentElement))
    .map((one) => `${one.tagName} ${one.textContent?.slice(0, 40)}`);
};

// A phone; the usual screen at 200 % (WCAG 2.2, 1.4.4); a large one.
const sizes = [
  [390, 844],
  [640, 400],
  [2560, 1440],
] as const;

test("no page is wider than the screen, on a phone, at 200 % and on a large one", async ({ page, sentry }) => {
  sentry.wrap(
    "a-rather-long-name-of-a-service-on-the-quay",
    "echo one; exec sleep 600",
    ...["--title", "מגדלור של הנמל and a rather long title beside it", "--rhythm", "restart:every 1 h", "--start"],
  );
  await enter(page, sentry);
  await expect(page.locator("[data-service]")).toBeVisible();
  const origin = new URL(page.url()).origin;
  const service = "/services/a-rather-long-name-of-a-service-on-the-quay";
  const parts = ["output", "runs", "definition", "change", "files", "history", "logbook", "access"];
  for (const path of [
    ...["/", "/wrap", "/drill", "/ahead", "/alerts", "/report", "/logbook", "/as-files", "/host", service],
    ...parts.map((part) => `${service}/${part}`),
  ]) {
    await page.setViewportSize({ width: sizes[0][0], height: sizes[0][1] });
    await page.goto(origin + path);
    await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
    await expect(page.getByText(/^(Loading|Asking the sentry).*…$/)).toHaveCount(0);
    if (path.endsWith("/change")) await expect(page.getByRole("group", { name: "Planned moments" })).toBeVisible();
    for (const [width, height] of sizes) {
      await page.setViewportSize({ width, height });
      // While a part of it still comes in it may be wider for a moment.
      await expect
        .poll(async () => `${path}: ${await page.evaluate(() => document.documentElement.scrollWidth)}`)
        .toBe(`${path}: ${width}`);
      await expect.poll(() => page.evaluate(beyond), { message: `${path}, ${width}` }).toEqual([]);
    }
  }
});

test("what is sent is small, and kept for as long as its name holds", async ({ page, sentry }) => {
  sentry.wrap("tide", "exec sleep 600");
  const link = sentry.calm("open").trim();
  const sizes: number[] = [];
  const kept: string[] = [];
  const session = await page.context().newCDPSession(page);
  await session.send("Network.enable");
  session.on("Network.loadingFinished", (event) => sizes.push(event.encodedDataLength));
  page.on("response", (response) => {
    if (new URL(response.url()).pathname.startsWith("/assets/"))
      kept.push(response.ok() ? (response.headers()["cache-control"] ?? "not kept") : response.url());
  });
  await page.goto(link);
  await expect(row(page, "tide")).toBeVisible();
  expect(sizes.reduce((all, one) => all + one, 0)).toBeLessThan(250_000);
  expect(new Set(kept)).toEqual(new Set(["public, max-age=31536000, immutable"]));
  const script = await page.evaluate(() => document.querySelector<HTMLScriptElement>("script[src]")?.src ?? "");
  const plain = await page.request.get(script, { headers: { "Accept-Encoding": "identity" } });
  const small = await page.request.get(script, { headers: { "Accept-Encoding": "gzip" } });
  const never = await page.request.get(script, { headers: { "Accept-Encoding": "br;q=0, gzip;q=0" } });
  expect(plain.headers()["content-encoding"]).toBeUndefined();
  expect(never.headers()["content-encoding"]).toBeUndefined();
  expect(small.headers()["content-encoding"]).toBe("gzip");
  expect(small.headers()["content-type"]).toBe(plain.headers()["content-type"]);
  expect(await small.text()).toBe(await plain.text());
});
