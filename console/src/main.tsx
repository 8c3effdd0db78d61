import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Outlet, Route, Routes, useLocation } from "react-router";
import { asked, Problem, queries } from "./api/client";
import { useEvents } from "./api/events";
import "./main.css";
import { Keys } from "./mast/keys";
import { Mast } from "./mast/mast";
import { useTheme } from "./mast/theme";

/** A page is loaded when somebody first goes there. */
const LicencesPage = lazy(() => import("./pages/licences/page").then((m) => ({ default: m.LicencesPage })));
const PlanPage = lazy(() => import("./pages/plan/page").then((m) => ({ default: m.PlanPage })));
const ProductPage = lazy(() => import("./pages/product/page").then((m) => ({ default: m.ProductPage })));
const ProductsPage = lazy(() => import("./pages/products/page").then((m) => ({ default: m.ProductsPage })));
const RunPage = lazy(() => import("./pages/run/page").then((m) => ({ default: m.RunPage })));
const RunsPage = lazy(() => import("./pages/runs/page").then((m) => ({ default: m.RunsPage })));
const SignInPage = lazy(() => import("./pages/sign-in/page").then((m) => ({ default: m.SignInPage })));
const SitePage = lazy(() => import("./pages/site/page").then((m) => ({ default: m.SitePage })));
const SitesPage = lazy(() => import("./pages/sites/page").then((m) => ({ default: m.SitesPage })));
const TodayPage = lazy(() => import("./pages/today/page").then((m) => ({ default: m.TodayPage })));

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
      <Suspense>
        <Outlet />
      </Suspense>
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
      <Route path="/sign-in" element={<Suspense><SignInPage /></Suspense>} />
      <Route element={<Frame />}>
        <Route index element={<TodayPage />} />
        <Route path="/sites" element={<SitesPage />} />
        <Route path="/sites/:id" element={<SitePage />} />
        <Route path="/sites/:id/plan" element={<PlanPage />} />
        <Route path="/products" element={<ProductsPage />} />
        <Route path="/products/:kind/:slug" element={<ProductPage />} />
        <Route path="/licences" element={<LicencesPage />} />
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
