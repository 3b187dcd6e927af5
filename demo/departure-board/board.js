// The departure board of the quay office: one web page, by a timetable that it reads when it starts and when it gets SIGHUP.
import { readFileSync } from "node:fs";
import { createServer } from "node:http";

const port = Number(process.env.BOARD_PORT ?? 7410);
const line = process.env.LINE_NAME ?? "Skerry Line";
const timetable = process.argv[2];

const read = () =>
  readFileSync(timetable, "utf8")
    .trim()
    .split("\n")
    .map((row) => row.split(";"));
let departures = read();
process.on("SIGHUP", () => {
  departures = read();
  console.log(`timetable read anew: ${departures.length} departures`);
});

let visitors = 0;
createServer((request, response) => {
  if (request.url === "/health") {
    response.end("ok\n");
    return;
  }
  visitors++;
  console.log(`visitor ${visitors} asked for ${request.url}`);
  const rows = departures
    .map(([time, to, berth]) => `<tr><td>${time}</td><td>${to}</td><td>berth ${berth}</td></tr>`)
    .join("");
  response.setHeader("Content-Type", "text/html; charset=utf-8");
  response.end(`<!doctype html><title>${line}</title><h1>${line}: departures</h1><table>${rows}</table>`);
}).listen(port, "127.0.0.1", () => console.log(`${line} departure board on http://127.0.0.1:${port}/, ${departures.length} departures`));
