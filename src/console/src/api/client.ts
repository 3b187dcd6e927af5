import createClient from "openapi-fetch";
import { call } from "./page";
import type { components, paths } from "./schema";

export type ServiceView = components["schemas"]["ServiceView"];
export type ServiceDetail = components["schemas"]["ServiceDetail"];
export type RunView = components["schemas"]["RunView"];
export type BeginReport = components["schemas"]["BeginReport"];
export type BeginView = components["schemas"]["BeginView"];
export type DrillPlan = components["schemas"]["DrillPlan"];
export type AheadView = components["schemas"]["AheadView"];
export type PlannedView = components["schemas"]["PlannedView"];
export type MomentsView = components["schemas"]["MomentsView"];
export type Answer = components["schemas"]["Answer"];
export type LogEntry = components["schemas"]["LogEntry"];
export type SentryView = components["schemas"]["SentryView"];
export type CheckView = components["schemas"]["CheckView"];
export type FindingView = components["schemas"]["FindingView"];
export type RepeatView = components["schemas"]["RepeatView"];
export type SecretView = components["schemas"]["SecretView"];
export type RehearsalReport = components["schemas"]["RehearsalReport"];
export type RehearsalEvent = {
  kind: string;
  text?: string | null;
  id?: string | null;
  report?: RehearsalReport | null;
};
export type SwapEvent = components["schemas"]["SwapEvent"];
export type AlertView = components["schemas"]["AlertView"];
export type MessageView = components["schemas"]["MessageView"];
export type RecipientView = components["schemas"]["RecipientView"];
export type StripView = components["schemas"]["StripView"];
export type TrialEvent = components["schemas"]["TrialEvent"];
export type SwapPlan = components["schemas"]["SwapPlan"];
export type VersionsView = components["schemas"]["VersionsView"];
export type ComparisonView = components["schemas"]["ComparisonView"];
export type SettlementView = components["schemas"]["SettlementView"];
export type SettleEvent = components["schemas"]["SettleEvent"];
export type Problem = components["schemas"]["Problem"];

export const api = createClient<paths>({ fetch: call });

/** What a call came to: its data, or an error that says what was wrong and what to do next. */
export async function take<T>(asked: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await asked;
  if (response.ok) return data as T;
  throw new CallError(
    (error as Problem | undefined) ?? {
      title: "",
      status: response.status,
      detail: `The sentry answered ${response.status}.`,
      code: "internal",
      type: "",
    },
  );
}

/** Others need what was to be stopped: who, and what can be done, is for somebody to decide. */
export const neededByOthers = (error: Error | null): Problem | undefined =>
  error instanceof CallError && error.problem.code === "needed-by-others" ? error.problem : undefined;

export class CallError extends Error {
  constructor(readonly problem: Problem) {
    super([problem.detail, problem.next].filter(Boolean).join(" → "));
  }
}
