import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, StrictMode, useEffect } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Outlet, Route, Routes, useLocation } from "react-router";
import { asked, Problem, queries } from "./api/client";
import { useEvents } from "./api/events";
import "./main.css";
import { Late } from "./pieces/late";
import { Keys } from "./mast/keys";
import { Mast } from "./mast/mast";
import { useTheme } from "./mast/theme";

/** Each page is loaded when somebody first goes there, or when the first view has long been shown:
 * then a service that goes away takes none of them along. */
const PAGES = {
  Calendar: () => import("./pages/calendar/page").then((m) => ({ default: m.CalendarPage })),
  Ledger: () => import("./pages/ledger/page").then((m) => ({ default: m.LedgerPage })),
  Licences: () => import("./pages/licences/page").then((m) => ({ default: m.LicencesPage })),
  Plan: () => import("./pages/plan/page").then((m) => ({ default: m.PlanPage })),
  Product: () => import("./pages/product/page").then((m) => ({ default: m.ProductPage })),
  Products: () => import("./pages/products/page").then((m) => ({ default: m.ProductsPage })),
  Rollout: () => import("./pages/rollout/page").then((m) => ({ default: m.RolloutPage })),
  Run: () => import("./pages/run/page").then((m) => ({ default: m.RunPage })),
  Runs: () => import("./pages/runs/page").then((m) => ({ default: m.RunsPage })),
  SignIn: () => import("./pages/sign-in/page").then((m) => ({ default: m.SignInPage })),
  Site: () => import("./pages/site/page").then((m) => ({ default: m.SitePage })),
  Sites: () => import("./pages/sites/page").then((m) => ({ default: m.SitesPage })),
  Today: () => import("./pages/today/page").then((m) => ({ default: m.TodayPage })),
};
const CalendarPage = lazy(PAGES.Calendar);
const LedgerPage = lazy(PAGES.Ledger);
const LicencesPage = lazy(PAGES.Licences);
const PlanPage = lazy(PAGES.Plan);
const ProductPage = lazy(PAGES.Product);
const ProductsPage = lazy(PAGES.Products);
const RolloutPage = lazy(PAGES.Rollout);
const RunPage = lazy(PAGES.Run);
const RunsPage = lazy(PAGES.Runs);
const SignInPage = lazy(PAGES.SignIn);
const SitePage = lazy(PAGES.Site);
const SitesPage = lazy(PAGES.Sites);
const TodayPage = lazy(PAGES.Today);
const SHOWN = 3000; // milliseconds

/** Beside a page: loads all others, once that one was there for some time. */
function Others() {
  useEffect(() => {
    const later = window.setTimeout(() => Object.values(PAGES).forEach((load) => void load().catch(() => null)), SHOWN);
    return () => window.clearTimeout(later);
  }, []);
  return null;
}

/** The frame of every page: who is signed in, the masthead, live events. */
function Frame() {
  const me = useQuery(asked.me());
  const live = useEvents(me.data !== undefined);
  const place = useLocation();
  if (me.isPending) return null;
  if (me.error instanceof Problem && me.error.status === 401)
    return <Navigate to="/sign-in" state={{ from: place.pathname }} replace />;
  if (me.data === undefined)
    return (
      <main className="page">
        <div className="state-note bad mt-6" role="alert">
          <p>{me.error.message}</p>
          <button className="btn mt-2" onClick={() => void me.refetch()}>
            Ask again
          </button>
        </div>
      </main>
    );
  return (
    <>
      <Mast name={me.data.name} live={live} />
      <Late key={place.pathname}>
        <Outlet />
        <Others />
      </Late>
      <Keys />
    </>
  );
}

function NotHere() {
  return (
    <main id="main" className="page">
      <div className="head">
        <h1>There is no such place</h1>
      </div>
      <p className="q">The address may be old. Every site is under Sites, every product under Products, every run under Runs.</p>
    </main>
  );
}

function App() {
  useTheme();
  return (
    <Routes>
      <Route path="/sign-in" element={<Late><SignInPage /></Late>} />
      <Route element={<Frame />}>
        <Route index element={<TodayPage />} />
        <Route path="/sites" element={<SitesPage />} />
        <Route path="/sites/:id" element={<SitePage />} />
        <Route path="/sites/:id/plan" element={<PlanPage />} />
        <Route path="/products" element={<ProductsPage />} />
        <Route path="/products/:kind/:slug" element={<ProductPage />} />
        <Route path="/licences" element={<LicencesPage />} />
        <Route path="/ledger" element={<LedgerPage />} />
        <Route path="/calendar" element={<CalendarPage />} />
        <Route path="/rollouts/:id" element={<RolloutPage />} />
        <Route path="/runs" element={<RunsPage />} />
        <Route path="/runs/:id" element={<RunPage />} />
        <Route path="*" element={<NotHere />} />
      </Route>
    </Routes>
  );
}

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
