import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider, createBrowserRouter } from "react-router";

import { NewPartnerPage } from "../features/partners/NewPartnerPage";
import { PartnerPage } from "../features/partners/PartnerPage";
import { PartnersPage } from "../features/partners/PartnersPage";
import { NewPlacePage } from "../features/places/NewPlacePage";
import { PlacePage } from "../features/places/PlacePage";
import { PlacesPage } from "../features/places/PlacesPage";
import { SideBySidePage } from "../features/places/SideBySidePage";
import { NewRulePage } from "../features/rules/NewRulePage";
import { RulePage } from "../features/rules/RulePage";
import { RulesPage } from "../features/rules/RulesPage";
import { RunPage } from "../features/runs/RunPage";
import { RunsPage } from "../features/runs/RunsPage";
import { CalendarPage, NewCalendarPage } from "../features/settings/CalendarPage";
import { DatabasePage, NewDatabasePage } from "../features/settings/DatabasePage";
import { SettingsPage } from "../features/settings/SettingsPage";
import { SignInPage } from "../features/sign-in/SignInPage";
import { TodayPage } from "../features/today/TodayPage";
import { TracePage } from "../features/trace/TracePage";
import { ApiError } from "../shared/api/client";
import { NotFound, Shell } from "./Shell";

const signedOut = (error: unknown): boolean => error instanceof ApiError && error.problem.status === 401;

const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (signedOut(error) && window.location.pathname !== "/sign-in-first") window.location.assign("/sign-in-first");
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

const router = createBrowserRouter([
  { path: "/sign-in-first", element: <SignInPage /> },
  {
    element: <Shell />,
    children: [
      { index: true, element: <TodayPage /> },
      { path: "rules", element: <RulesPage /> },
      { path: "rules/new", element: <NewRulePage /> },
      { path: "rules/:name", element: <RulePage /> },
      { path: "runs", element: <RunsPage /> },
      { path: "runs/:id", element: <RunPage /> },
      { path: "places", element: <PlacesPage /> },
      { path: "places/side-by-side", element: <SideBySidePage /> },
      { path: "places/new", element: <NewPlacePage /> },
      { path: "places/:name", element: <PlacePage /> },
      { path: "partners", element: <PartnersPage /> },
      { path: "partners/new", element: <NewPartnerPage /> },
      { path: "partners/:name", element: <PartnerPage /> },
      { path: "settings", element: <SettingsPage /> },
      { path: "settings/calendars/new", element: <NewCalendarPage /> },
      { path: "settings/calendars/:name", element: <CalendarPage /> },
      { path: "settings/databases/new", element: <NewDatabasePage /> },
      { path: "settings/databases/:name", element: <DatabasePage /> },
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
