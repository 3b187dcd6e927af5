import { at } from "./clock";

const hour = 3_600_000;

/** Round times by the clock of this host, four to ten of them. */
export function ticksTo(from: number, until: number) {
  const step =
    [hour / 6, hour, 3 * hour, 6 * hour, 24 * hour, 72 * hour, 120 * hour].find((one) => (until - from) / one <= 10) ??
    240 * hour;
  const first = Math.ceil(from / step) * step;
  return Array.from(
    { length: Math.max(0, Math.floor((until - first) / step) + 1) },
    (_, index) => first + index * step,
  );
}

/** A day of a long time, an hour of a short one. */
export const tickLabel = (tick: number, whole: number) => {
  const words = at(new Date(tick));
  return whole > 48 * hour ? (words.length > 8 ? words.slice(5, 10) : "today") : words.slice(-8, -3);
};
