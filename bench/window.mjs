/**
 * How long a press of the pointer takes to what the program draws for it, in the console, beside a page with the same library against the
 * same display through a bare WebSocket relay.
 *
 * window.mjs ADDRESS SOCKET   the console's address with its one-time sign-in; its service 'desk' turns its colour at each press. The
 *                             socket of its display.
 */
import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import { createRequire } from "node:module";
import { connect } from "node:net";
import { dirname, join } from "node:path";

const from = createRequire(new URL("../src/console/package.json", import.meta.url));
const { chromium } = from("playwright-core");
const { wsServer: Sockets } = from("playwright-core/lib/utilsBundle");
const library = dirname(from.resolve("@novnc/novnc"));
const [address, display] = process.argv.slice(2);
const presses = 150;
const rounds = 3;

/** A page with a window alone, and a WebSocket (RFC 6455) that passes bytes to and from the display, and does nothing else. */
function bare() {
  const server = createServer((request, answer) => {
    const path = new URL(request.url, "http://bench").pathname;
    if (path.endsWith(".ico")) return answer.writeHead(404).end();
    answer.setHeader("Content-Type", path === "/" ? "text/html" : "text/javascript");
    answer.end(
      path === "/"
        ? `<section aria-label=Window><div id=place style="width:800px;height:500px"></div></section><script type=module>
        import RFB from "/core/rfb.js";
        const place = document.getElementById("place");
        const shown = new RFB(place, "ws://" + location.host + "/relay", { shared: true });
        shown.scaleViewport = true;
      </script>`
        : readFileSync(join(library, "..", path)),
    );
  });
  new Sockets({ server, perMessageDeflate: false }).on("connection", (socket) => {
    const line = connect(display);
    line.on("data", (bytes) => socket.send(bytes));
    socket.on("message", (bytes) => line.write(bytes));
    socket.on("close", () => line.destroy());
    line.on("error", () => socket.close());
  });
  return new Promise((ready) => server.listen(0, "127.0.0.1", () => ready(server)));
}

/** Milliseconds from each press to another colour there, ascending. */
async function times(page) {
  const canvas = page.locator('section[aria-label="Window"] canvas');
  await canvas.waitFor();
  await page.evaluate(() => {
    const drawn = document.querySelector('section[aria-label="Window"] canvas');
    const colour = () => {
      const { data } = drawn.getContext("2d").getImageData(drawn.width / 2, drawn.height / 2, 1, 1);
      return `${data[0]} ${data[1]} ${data[2]}`;
    };
    let pressed = 0;
    document.addEventListener("mousedown", () => (pressed = performance.now()), true);
    window.drawn = () => drawn.width > 300 && colour() !== "0 0 0";
    window.seen = () =>
      new Promise((done) => {
        const before = colour();
        const { port1, port2 } = new MessageChannel();
        port1.onmessage = () => (colour() === before ? port2.postMessage(0) : done(performance.now() - pressed));
        port2.postMessage(0);
      });
  });
  await page.waitForFunction(() => window.drawn());
  const box = await canvas.boundingBox();
  const took = [];
  for (let i = 0; i < presses; i++) {
    const seen = page.evaluate(() => window.seen());
    await page.mouse.click(box.x + box.width / 2, box.y + box.height / 2);
    took.push(await seen);
  }
  return took.sort((one, other) => one - other);
}

const at = (took, part) => took[Math.min(took.length - 1, Math.floor(took.length * part))];
const relay = await bare();
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
try {
  const console_ = await browser.newPage();
  await console_.goto(address);
  await console_.click('[data-service="desk"]');
  await console_.getByRole("link", { name: "Screen", exact: true }).click();
  for (let round = 0; round < rounds; round++) {
    const plain = await browser.newPage();
    await plain.goto(`http://127.0.0.1:${relay.address().port}/`);
    const floor = await times(plain);
    await plain.close();
    await console_.bringToFront();
    await console_.getByRole("button", { name: "See its window" }).click();
    const own = await times(console_);
    await console_.getByRole("button", { name: "Leave" }).click();
    const [p50, p99] = [0.5, 0.99].map((part) => `${at(own, part).toFixed(1)} ms, ${(at(own, part) / at(floor, part)).toFixed(2)}x`);
    console.log(`press to picture p50 ${p50}; p99 ${p99} in the console`);
  }
} finally {
  await browser.close();
  relay.close();
}
