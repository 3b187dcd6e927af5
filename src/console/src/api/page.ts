/**
 * The page's own secret. A session opens with two: a cookie, which browsers send to every port of this host, and this one, which
 * only pages of this address can read. It comes once, in the fragment of the address after signing in.
 */
const place = "calm-page";
const header = "Calm-Page";

const arrived = /^#page=([0-9a-f]+)$/.exec(window.location.hash);
if (arrived) {
  localStorage.setItem(place, arrived[1] ?? "");
  history.replaceState(null, "", window.location.pathname + window.location.search);
}

/** The session is over: nothing of it stays in the browser. */
export const forget = () => localStorage.removeItem(place);

/** The host's time zone, once an answer has said so: what the sentry says in sentences is in it, and so is all beside. */
export let hostZone: string | undefined;

/** As fetch, with what shows the sentry that it is this page that calls. */
export async function call(input: RequestInfo | URL, init?: RequestInit): Promise<Response> {
  const request = new Request(input, init);
  const secret = localStorage.getItem(place);
  if (secret) request.headers.set(header, secret);
  const response = await fetch(request);
  const zone = response.headers.get("Calm-Zone");
  if (zone && zone !== hostZone && isKnown(zone)) hostZone = zone;
  return response;
}

function isKnown(zone: string): boolean {
  try {
    return Intl.DateTimeFormat("sv-SE", { timeZone: zone }) !== undefined;
  } catch {
    return false;
  }
}
