import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Outlet, Route, Routes, useLocation } from "react-router";
import { asked, Problem, queries } from "./api/client";
import { useEvents } from "./api/events";
import "./main.css";
import { Keys } from "./mast/keys";
import { Mast } from "./mast/mast";
import { useTheme } from "./mast/theme";
import { LicencesPage } from "./pages/licences";
import { PlanPage } from "./pages/plan";
import { ProductPage } from "./pages/product";
import { ProductsPage } from "./pages/products";
import { RunPage } from "./pages/run";
import { RunsPage } from "./pages/runs";
import { SignInPage } from "./pages/sign-in";
import { SitePage } from "./pages/site";
import { SitesPage } from "./pages/sites";
import { TodayPage } from "./pages/today";

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
      <Outlet />
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
      <Route path="/sign-in" element={<SignInPage />} />
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
