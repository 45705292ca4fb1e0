import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider, createBrowserRouter, useLocation } from "react-router";

import { PartnersPage } from "../features/partners/PartnersPage";
import { PlacesPage } from "../features/places/PlacesPage";
import { RulesPage } from "../features/rules/RulesPage";
import { RunPage } from "../features/runs/RunPage";
import { RunsPage } from "../features/runs/RunsPage";
import { LinkPage } from "../features/sign-in/LinkPage";
import { SignInPage } from "../features/sign-in/SignInPage";
import { TodayPage } from "../features/today/TodayPage";
import { TracePage } from "../features/trace/TracePage";
import { ApiError } from "../shared/api/client";
import { NotFound, Shell } from "./Shell";

const signedOut = (error: unknown): boolean => error instanceof ApiError && error.problem.status === 401;

const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (signedOut(error) && window.location.pathname !== "/sign-in") window.location.assign(`/sign-in?to=${encodeURIComponent(window.location.pathname + window.location.search)}`);
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 1000,
      refetchInterval: 15_000,
      retry: (count, error) => !(error instanceof ApiError && error.problem.status >= 400 && error.problem.status < 500) && count < 2,
    },
  },
});

/** What opens a door stands behind the mark that no browser sends on. */
function SignInOrLink() {
  const { hash } = useLocation();
  return hash.length > 1 ? <LinkPage link={hash.slice(1)} /> : <SignInPage />;
}

const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInOrLink /> },
  {
    element: <Shell />,
    children: [
      { index: true, element: <TodayPage /> },
      { path: "rules", element: <RulesPage /> },
      { path: "explain", lazy: async () => ({ Component: (await import("../features/explain/ExplainPage")).ExplainPage }) },
      { path: "rules/new", lazy: async () => ({ Component: (await import("../features/rules/NewRulePage")).NewRulePage }) },
      { path: "rules/:name", lazy: async () => ({ Component: (await import("../features/rules/RulePage")).RulePage }) },
      { path: "runs", element: <RunsPage /> },
      { path: "runs/:id", element: <RunPage /> },
      { path: "places", element: <PlacesPage /> },
      { path: "places/side-by-side", lazy: async () => ({ Component: (await import("../features/places/SideBySidePage")).SideBySidePage }) },
      { path: "places/new", lazy: async () => ({ Component: (await import("../features/places/NewPlacePage")).NewPlacePage }) },
      { path: "places/:name", lazy: async () => ({ Component: (await import("../features/places/PlacePage")).PlacePage }) },
      { path: "twins", lazy: async () => ({ Component: (await import("../features/twins/TwinsPage")).TwinsPage }) },
      { path: "twins/new", lazy: async () => ({ Component: (await import("../features/twins/NewTwinPage")).NewTwinPage }) },
      { path: "twins/:name", lazy: async () => ({ Component: (await import("../features/twins/TwinPage")).TwinPage }) },
      { path: "partners", element: <PartnersPage /> },
      { path: "partners/new", lazy: async () => ({ Component: (await import("../features/partners/NewPartnerPage")).NewPartnerPage }) },
      { path: "partners/:name", lazy: async () => ({ Component: (await import("../features/partners/PartnerPage")).PartnerPage }) },
      { path: "accounts/new", lazy: async () => ({ Component: (await import("../features/accounts/AccountPage")).NewAccountPage }) },
      { path: "accounts/:name", lazy: async () => ({ Component: (await import("../features/accounts/AccountPage")).AccountPage }) },
      { path: "settings", lazy: async () => ({ Component: (await import("../features/settings/SettingsPage")).SettingsPage }) },
      { path: "settings/calendars/new", lazy: async () => ({ Component: (await import("../features/settings/CalendarPage")).NewCalendarPage }) },
      { path: "settings/calendars/:name", lazy: async () => ({ Component: (await import("../features/settings/CalendarPage")).CalendarPage }) },
      { path: "settings/databases/new", lazy: async () => ({ Component: (await import("../features/settings/DatabasePage")).NewDatabasePage }) },
      { path: "settings/databases/:name", lazy: async () => ({ Component: (await import("../features/settings/DatabasePage")).DatabasePage }) },
      { path: "trace", element: <TracePage /> },
      { path: "*", element: <NotFound /> },
    ],
  },
]);

export function App() {
  return (
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  );
}
