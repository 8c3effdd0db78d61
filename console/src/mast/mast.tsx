import { lazy, startTransition, Suspense, useEffect, useRef, useState } from "react";
import { Link, NavLink } from "react-router";
import { clock, day } from "../pieces/time";
import { now } from "../pieces/now";

const FindBox = lazy(() => import("./find-box").then((m) => ({ default: m.FindBox })));
const whoMenu = () => import("./who-menu").then((m) => ({ default: m.WhoMenu }));
const WhoMenu = lazy(whoMenu);

const PLACES = [
  ["/", "Today"],
  ["/sites", "Sites"],
  ["/products", "Products"],
  ["/calendar", "Calendar"],
  ["/runs", "Runs"],
  ["/licences", "Licences & feeds"],
  ["/ledger", "Ledger"],
] as const;

export function Mark() {
  return (
    <>
      <svg width="22" height="18" viewBox="0 0 22 18" aria-hidden="true">
        <path d="M0 17.3h22" stroke="currentColor" strokeWidth="1.4" />
        <path
          d="M2 15V9l2-3 2 3v6ZM8 15V5l2-3.4L12 5v10ZM14.5 15v-4l2-2.6 2 2.6v4Z"
          fill="currentColor"
        />
      </svg>
      Windbreak
    </>
  );
}

export function Mast({ name, live }: { name: string; live: boolean }) {
  return (
    <header className="mast">
      <a className="skip" href="#main">
        Go to the page
      </a>
      <Link className="mark" to="/">
        <Mark />
      </Link>
      <nav className="places" aria-label="Places">
        {PLACES.map(([to, label]) => (
          <NavLink key={to} to={to} end={to === "/"}>
            {label}
          </NavLink>
        ))}
      </nav>
      <Find />
      <Who name={name} live={live} />
    </header>
  );
}

/** The command box; "/" or Ctrl K goes there. It is loaded when somebody first does; what is typed
 * meanwhile stands in its stead and is kept. */
function Find() {
  const [text, setText] = useState("");
  const [wanted, setWanted] = useState(false);
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const hear = (event: KeyboardEvent) => {
      const writing = (event.target as HTMLElement).closest("input, textarea, [role=dialog]");
      if ((event.key === "/" && !writing) || (event.key === "k" && event.ctrlKey)) {
        event.preventDefault();
        place.current?.querySelector("input")?.focus();
      }
    };
    window.addEventListener("keydown", hear);
    return () => window.removeEventListener("keydown", hear);
  }, []);
  const standIn = (
    <div className="find" role="search">
      <input
        aria-label="Find a site, product or act"
        placeholder="Find a site, product or act"
        value={text}
        onFocus={() => startTransition(() => setWanted(true))}
        onChange={(event) => setText(event.target.value)}
      />
      <kbd aria-hidden="true">/</kbd>
    </div>
  );
  return (
    <div ref={place} className="contents">
      <Suspense fallback={standIn}>
        {wanted ? <FindBox text={text} onText={setText} /> : standIn}
      </Suspense>
    </div>
  );
}

/** Who is signed in, and when it is; its menu is loaded when somebody first goes there. */
function Who({ name, live }: { name: string; live: boolean }) {
  const [at, setAt] = useState(() => new Date(now()));
  const [wanted, setWanted] = useState(false);
  useEffect(() => {
    const timer = window.setInterval(() => setAt(new Date(now())), 20_000);
    return () => window.clearInterval(timer);
  }, []);
  const label = (
    <>
      {name}{" "}
      <span className="text-ink-3">
        · {day(at)}, {clock(at)}
        {live ? "" : " · not live"}
      </span>
    </>
  );
  const standIn = (
    <button
      className="who text-left"
      aria-haspopup="menu"
      onPointerEnter={() => void whoMenu()}
      onFocus={() => void whoMenu()}
      onClick={() => startTransition(() => setWanted(true))}
    >
      {label}
    </button>
  );
  return (
    <Suspense fallback={standIn}>{wanted ? <WhoMenu>{label}</WhoMenu> : standIn}</Suspense>
  );
}
