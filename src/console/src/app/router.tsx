import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";
import { lazy } from "react";
import { LogbookPage } from "../logbook/LogbookPage";
import { ServicePage } from "../services/ServicePage";
import { ServicesPage } from "../services/ServicesPage";
import { Frame } from "./Frame";

const AlertsPage = lazy(() => import("../alerts/AlertsPage").then((page) => ({ default: page.AlertsPage })));

const root = createRootRoute({ component: Frame, notFoundComponent: () => <p>There is no such page.</p> });
const services = createRoute({ getParentRoute: () => root, path: "/", component: ServicesPage });
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
const logbook = createRoute({ getParentRoute: () => root, path: "/logbook", component: LogbookPage });
const service = createRoute({
  getParentRoute: () => root,
  path: "/services/$name",
  // The run whose output is to be shown.
  validateSearch: (search): { run?: number } => {
    const run = Number(search.run);
    return Number.isSafeInteger(run) && run > 0 ? { run } : {};
  },
  component: function Service() {
    const { name } = service.useParams();
    const { run } = service.useSearch();
    return <ServicePage key={name} name={name} run={run} />;
  },
});

export const router = createRouter({
  routeTree: root.addChildren([services, wrap, drill, ahead, alerts, alert, report, logbook, service]),
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
