import { api, take } from "../api/client";

/** What happens at a terminal beside what its program writes; each has what it says of. */
export type News = {
  is: "begins" | "live" | "resized" | "there" | "waits";
  place?: number;
  "left-out"?: number;
  columns?: number;
  rows?: number;
  run?: number;
  "you-type"?: boolean;
  "typed-by"?: string | null;
  viewers?: number;
  why?: string;
};

export type Screen = {
  begin: (columns: number, rows: number, leftOut: number) => void;
  resize: (columns: number, rows: number) => void;
  /** Shows bytes, and calls when they are shown. */
  show: (bytes: Uint8Array, shown: () => void) => void;
  news: (news: News) => void;
  /** The sentry is away, or back. */
  away: (isAway: boolean) => void;
  /** It cannot be joined, or not any more. */
  over: (why: string) => void;
};

export type Joined = {
  type: (keys: Uint8Array<ArrayBuffer>) => void;
  takeOver: () => void;
  letGo: () => void;
  leave: () => void;
};

/** Bytes after which it is said that they were shown. */
const acknowledged = 131_072;
const beat = 300;

/** Joins a service's terminal; where the sentry goes away, it comes back by itself and goes on where it was. */
export function join(name: string, watch: boolean, screen: Screen): Joined {
  let line: WebSocket | null = null;
  let left = false;
  let isAway = false;
  let wants = !watch;
  let seen: { run: number; place: number } | null = null;
  let isLive = false;
  let said = 0;

  const open = async () => {
    const path = { name };
    const ticket = await take(
      api.POST("/api/services/{name}/terminal", { params: { path, query: { watch: !wants } } }),
    );
    if (left) return;
    const query = new URLSearchParams({ ticket: ticket.ticket, acknowledges: "true" });
    if (seen) {
      query.set("run", String(seen.run));
      query.set("place", String(seen.place));
    }
    const socket = new WebSocket(`${location.origin.replace(/^http/, "ws")}/api/terminal?${query}`);
    socket.binaryType = "arraybuffer";
    socket.onopen = () => {
      line = socket;
      if (isAway) screen.away(false);
      isAway = false;
    };
    socket.onmessage = ({ data }) =>
      typeof data === "string" ? hear(JSON.parse(data) as News) : show(new Uint8Array(data as ArrayBuffer));
    socket.onclose = () => {
      line = null;
      if (!left) again();
    };
  };
  const again = () => {
    if (!isAway) screen.away(true);
    isAway = true;
    setTimeout(() => !left && attempt(), beat);
  };
  const attempt = () =>
    open().catch((error: Error & { problem?: { status: number } }) => {
      // Whoever refuses it is there: what it says is final.
      if (error.problem && error.problem.status < 500) screen.over(error.message);
      else again();
    });

  const say = (wish: object) => line?.readyState === WebSocket.OPEN && line.send(JSON.stringify(wish));
  const hear = (news: News) => {
    if (news.is === "begins") {
      seen = null;
      isLive = false;
      screen.begin(news.columns ?? 80, news.rows ?? 24, news["left-out"] ?? 0);
      run = news.run ?? 0;
    } else if (news.is === "live") {
      seen = { run, place: news.place ?? 0 };
      said = seen.place;
      isLive = true;
    } else if (news.is === "resized") screen.resize(news.columns ?? 80, news.rows ?? 24);
    else {
      if (news.is === "waits") seen = null;
      if (news.is === "there" && news["you-type"] === false && news["typed-by"]) wants = false;
      screen.news(news);
    }
  };
  let run = 0;
  const show = (bytes: Uint8Array) => {
    if (isLive && seen) seen = { run: seen.run, place: seen.place + bytes.length };
    const to = seen?.place ?? 0;
    screen.show(bytes, () => {
      if (!isLive || to - said < acknowledged) return;
      said = to;
      say({ seen: to });
    });
  };

  attempt();
  return {
    type: (keys) => line?.readyState === WebSocket.OPEN && line.send(keys),
    takeOver: () => {
      wants = true;
      say({ type: true });
    },
    letGo: () => {
      wants = false;
      say({ type: false });
    },
    leave: () => {
      left = true;
      line?.close();
    },
  };
}
