import {
  createRootRoute,
  createRoute,
  createRouter,
  type ErrorComponentProps,
  lazyRouteComponent,
} from "@tanstack/react-router";
import { lazy } from "react";
import { narrowing } from "../services/narrowing";
import { ServicesPage } from "../services/ServicesPage";
import { isSection, type Section } from "../services/sections";
import { Frame } from "./Frame";

// Pages are loaded when they are opened, or about to be.
const AlertsPage = lazy(() => import("../alerts/AlertsPage").then((page) => ({ default: page.AlertsPage })));
const ServicePage = lazy(() => import("../services/ServicePage").then((page) => ({ default: page.ServicePage })));

/** What fails says what, and offers again. A part that could not be loaded is not asked for a second time by the same page. */
function Failed({ error, reset }: ErrorComponentProps) {
  const said = error instanceof Error ? error.message : String(error);
  // As Chromium and Firefox, Safari, and the builder's own loader say it.
  const isPart = /dynamically imported module|importing a module script|unable to preload/i.test(said);
  return (
    <div role="alert" className="notice">
      ▲{" "}
      {isPart
        ? "A part of this page did not come: the connection broke off, or the sentry has another version since."
        : `This page could not be shown: ${said}`}{" "}
      <button type="button" onClick={isPart ? () => location.reload() : reset}>
        {isPart ? "Load it anew" : "Try again"}
      </button>
    </div>
  );
}

const root = createRootRoute({ component: Frame, notFoundComponent: () => <p>There is no such page.</p> });
const services = createRoute({
  getParentRoute: () => root,
  path: "/",
  validateSearch: narrowing,
  component: ServicesPage,
});
const wrap = createRoute({
  getParentRoute: () => root,
  path: "/wrap",
  component: lazyRouteComponent(() => import("../wrap/WrapPage"), "WrapPage"),
});
const drill = createRoute({
  getParentRoute: () => root,
  path: "/drill",
  component: lazyRouteComponent(() => import("../drill/DrillPage"), "DrillPage"),
});
const ahead = createRoute({
  getParentRoute: () => root,
  path: "/ahead",
  component: lazyRouteComponent(() => import("../ahead/AheadPage"), "AheadPage"),
});
const alerts = createRoute({
  getParentRoute: () => root,
  path: "/alerts",
  component: lazyRouteComponent(() => import("../alerts/AlertsPage"), "AlertsPage"),
});
const report = createRoute({
  getParentRoute: () => root,
  path: "/report",
  component: lazyRouteComponent(() => import("../alerts/ReportPage"), "ReportPage"),
});
// Where the link in a message leads.
const alert = createRoute({
  getParentRoute: () => root,
  path: "/alerts/$number",
  component: function Alert() {
    return <AlertsPage number={Number(alert.useParams().number)} />;
  },
});
const logbook = createRoute({
  getParentRoute: () => root,
  path: "/logbook",
  component: lazyRouteComponent(() => import("../logbook/LogbookPage"), "LogbookPage"),
});
const asFiles = createRoute({
  getParentRoute: () => root,
  path: "/as-files",
  component: lazyRouteComponent(() => import("../asfiles/AsFilesPage"), "AsFilesPage"),
});
const host = createRoute({
  getParentRoute: () => root,
  path: "/host",
  component: lazyRouteComponent(() => import("../host/HostPage"), "HostPage"),
});

/** The run whose output is to be shown. */
const ofRun = (search: Record<string, unknown>): { run?: number } => {
  const run = Number(search.run);
  return Number.isSafeInteger(run) && run > 0 ? { run } : {};
};
const service = createRoute({
  getParentRoute: () => root,
  path: "/services/$name",
  component: function Service() {
    const { name } = service.useParams();
    return <ServicePage key={name} name={name} section="overview" />;
  },
});
const section = createRoute({
  getParentRoute: () => root,
  path: "/services/$name/$section",
  validateSearch: ofRun,
  component: function Part() {
    const { name, section: wanted } = section.useParams();
    const { run } = section.useSearch();
    const shown: Section = isSection(wanted) ? wanted : "overview";
    return <ServicePage key={name} name={name} section={shown} run={run} />;
  },
});

export const router = createRouter({
  routeTree: root.addChildren([
    services,
    wrap,
    drill,
    ahead,
    alerts,
    alert,
    report,
    logbook,
    asFiles,
    host,
    service,
    section,
  ]),
  defaultPreload: "intent",
  defaultErrorComponent: Failed,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
