import { useQuery } from "@tanstack/react-query";
import { api, type ServiceView, take } from "../api/client";
import { useLine, useServices } from "../live/live";

export type Usage = NonNullable<ServiceView["usage"]>;

const beat = 10_000,
  /** Of so many each look takes the sentry a while. */
  many = 300;

const none: ReadonlyMap<string, Usage> = new Map();

/** What each service uses now, by its name; looked at while somebody sees it. */
export function useUsage(): ReadonlyMap<string, Usage> {
  const { services } = useServices();
  const live = useLine().state === "live";
  const usage = useQuery({
    queryKey: ["usage"],
    queryFn: async () =>
      new Map(
        (await take(api.GET("/api/services", { params: { query: { usage: true } } }))).flatMap((one) =>
          one.usage ? [[one.name, one.usage] as const] : [],
        ),
      ),
    refetchInterval: services.length > many ? beat * 3 : beat,
    enabled: live && services.length > 0,
  });
  return usage.data ?? none;
}

/** Bytes as people say them. */
export const size = (bytes: number | null | undefined) =>
  bytes == null
    ? "–"
    : bytes < 1024
      ? `${bytes} B`
      : bytes < 1 << 20
        ? `${(bytes / 1024).toFixed(1)} KiB`
        : bytes < 1 << 30
          ? `${(bytes / (1 << 20)).toFixed(1)} MiB`
          : `${(bytes / (1 << 30)).toFixed(1)} GiB`;

export const percent = (part: number | null | undefined) =>
  part == null ? "–" : `${part.toFixed(part < 10 ? 1 : 0)} %`;
