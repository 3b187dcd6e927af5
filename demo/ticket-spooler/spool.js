// Prints tickets to the quay's printer, and keeps every one of them in memory: it leaks.
const kept = [];
let printed = 0;
console.log("ticket spooler begins");
setInterval(() => {
  printed++;
  kept.push(Buffer.alloc(64 * 1024, `ticket ${printed} Skerry Line`));
  if (printed % 5 === 0) console.log(`printed ticket ${printed}, ${(process.memoryUsage().rss / 2 ** 20).toFixed(0)} MiB in use`);
}, 400);
process.on("SIGTERM", () => {
  console.log(`asked to end after ${printed} tickets`);
  process.exit(0);
});
