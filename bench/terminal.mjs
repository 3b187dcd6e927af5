/**
 * How long a key takes to its sight at a terminal in the console, beside a page with the same library behind a bare WebSocket relay.
 *
 * terminal.mjs ADDRESS   the console's address with its one-time sign-in; its service 'echo' runs cat at a terminal.
 */
import { spawn } from "node:child_process";
import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import { createRequire } from "node:module";

const from = createRequire(new URL("../src/console/package.json", import.meta.url));
const { chromium } = from("playwright-core");
const library = from.resolve("@xterm/xterm").replace(/\.m?js$/, "");
const style = `${library.slice(0, library.lastIndexOf("/lib/"))}/css/xterm.css`;
const keys = 150;
const rounds = 3;

/** A page with a terminal alone, and a WebSocket (RFC 6455) that passes bytes to and from a program, and does nothing else. */
function bare() {
  const server = createServer((request, answer) => {
    if (request.url === "/xterm.js" || request.url === "/xterm.css") {
      answer.setHeader("Content-Type", request.url.endsWith("js") ? "text/javascript" : "text/css");
      answer.end(readFileSync(request.url.endsWith("js") ? `${library}.js` : style));
    } else {
      answer.setHeader("Content-Type", "text/html");
      answer.end(`<link rel=stylesheet href=xterm.css><div id=place></div><script src=xterm.js></script><script>
        const terminal = new Terminal({ fontSize: 13, cursorBlink: false, screenReaderMode: true });
        terminal.open(document.getElementById("place"));
        const socket = new WebSocket("ws://" + location.host + "/relay");
        socket.binaryType = "arraybuffer";
        socket.onmessage = ({ data }) => terminal.write(new Uint8Array(data));
        terminal.onData((keys) => socket.send(new TextEncoder().encode(keys)));
      </script>`);
    }
  });
  server.on("upgrade", (request, socket) => {
    const accept = createHash("sha1").update(`${request.headers["sec-websocket-key"]}258EAFA5-E914-47DA-95CA-C5AB0DC85B11`);
    socket.write(
      `HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: ${accept.digest("base64")}\r\n\r\n`,
    );
    socket.setNoDelay(true);
    const program = spawn("script", ["-qfec", "/bin/cat", "/dev/null"], { stdio: ["pipe", "pipe", "ignore"] });
    program.stdout.on("data", (bytes) => {
      for (let at = 0; at < bytes.length; at += 125) {
        const part = bytes.subarray(at, at + 125);
        socket.write(Buffer.concat([Buffer.from([0x82, part.length]), part]));
      }
    });
    socket.on("data", (frame) => {
      // Keys come singly: short frames, whole.
      const mask = frame.subarray(2, 6);
      if ((frame[0] & 15) === 2) program.stdin.write(frame.subarray(6, 6 + (frame[1] & 127)).map((one, i) => one ^ mask[i % 4]));
    });
    socket.on("close", () => program.kill());
    socket.on("error", () => program.kill());
  });
  return new Promise((ready) => server.listen(0, "127.0.0.1", () => ready(server)));
}

/** Milliseconds from each key to its character on the screen, ascending. */
async function times(page) {
  await page.waitForSelector(".xterm-helper-textarea", { state: "attached" });
  await page.evaluate(() => {
    const rows = document.querySelector(".xterm-rows");
    const shown = () => rows.textContent.replace(/\s/g, "").length;
    let pressed = 0;
    document.addEventListener("keydown", () => (pressed = performance.now()), true);
    window.seen = () =>
      new Promise((done) => {
        const before = shown();
        const observer = new MutationObserver(() => {
          if (shown() === before) return;
          observer.disconnect();
          done(performance.now() - pressed);
        });
        observer.observe(rows, { childList: true, subtree: true, characterData: true });
      });
  });
  await page.focus(".xterm-helper-textarea");
  const took = [];
  for (let i = 0; i < keys; i++) {
    const seen = page.evaluate(() => window.seen());
    await page.keyboard.press(String.fromCharCode(97 + (i % 26)));
    took.push(await seen);
    if (i % 60 === 59) {
      const cleared = page.evaluate(() => window.seen());
      await page.keyboard.press("Control+u");
      await cleared;
    }
  }
  return took.sort((one, other) => one - other);
}

const at = (took, part) => took[Math.min(took.length - 1, Math.floor(took.length * part))];
const relay = await bare();
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
try {
  const console_ = await browser.newPage();
  await console_.goto(process.argv[2]);
  await console_.click('[data-service="echo"]');
  await console_.getByRole("link", { name: "Screen", exact: true }).click();
  for (let round = 0; round < rounds; round++) {
    const plain = await browser.newPage();
    await plain.goto(`http://127.0.0.1:${relay.address().port}/`);
    const floor = await times(plain);
    await plain.close();
    await console_.bringToFront();
    await console_.getByRole("button", { name: "Join" }).click();
    const own = await times(console_);
    await console_.getByRole("button", { name: "Leave" }).click();
    const [p50, p99] = [0.5, 0.99].map((part) => `${at(own, part).toFixed(1)} ms, ${(at(own, part) / at(floor, part)).toFixed(2)}x`);
    console.log(`key to sight p50 ${p50}; p99 ${p99} in the console`);
  }
} finally {
  await browser.close();
  relay.close();
}
