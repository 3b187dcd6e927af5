// Prints tickets to the quay's printer, and keeps every one of them in memory: it leaks. It says itself when it is ready.
import { request } from "node:http";

const kept = [];
let printed = 0;
const say = (what, text) => {
  if (process.env.CALM_SAY) request({ socketPath: process.env.CALM_SAY, path: what, method: "POST" }, (answer) => answer.resume()).on("error", () => {}).end(text);
};
console.log("ticket spooler begins");
setTimeout(() => say("/serves", "paper is in, no ticket printed yet"), 200);
setInterval(() => {
  printed++;
  // A roll of tickets is not to be torn off in the middle.
  if (printed % 25 === 1) say("/busy", `roll ${Math.ceil(printed / 25)} is being printed`);
  if (printed % 25 === 20) say("/idle", "");
  kept.push(Buffer.alloc(64 * 1024, `ticket ${printed} Skerry Line`));
  if (printed % 5 !== 0) return;
  console.log(`printed ticket ${printed}, ${(process.memoryUsage().rss / 2 ** 20).toFixed(0)} MiB in use`);
  say("/well", `${printed} tickets printed`);
  if (printed === 25) say("/notes", "25 tickets since the roll was changed");
  if (printed === 100) say("/asks", "the paper roll is nearly at its end");
}, 400);
process.on("SIGTERM", () => {
  console.log(`asked to end after ${printed} tickets`);
  process.exit(0);
});
