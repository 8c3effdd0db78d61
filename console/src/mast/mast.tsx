import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Menu,
  MenuButton,
  MenuItem,
  MenuItems,
} from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { api, asked, queries, told } from "../api/client";
import { clock, day } from "../pieces/words";
import { StateWord } from "../states/states";
import { find, type Place } from "./find";
import { useTheme } from "./theme";

const PLACES = [
  ["/", "Today"],
  ["/sites", "Sites"],
  ["/products", "Products"],
  ["/runs", "Runs"],
  ["/licences", "Licences & feeds"],
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

/** The command box: any site or product by a part of its name, worst first; "/" or Ctrl K goes there. */
function Find() {
  const [text, setText] = useState("");
  const box = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const today = useQuery(asked.today());
  useEffect(() => {
    const hear = (event: KeyboardEvent) => {
      const writing = (event.target as HTMLElement).closest("input, textarea, [role=dialog]");
      if ((event.key === "/" && !writing) || (event.key === "k" && event.ctrlKey)) {
        event.preventDefault();
        box.current?.focus();
      }
    };
    window.addEventListener("keydown", hear);
    return () => window.removeEventListener("keydown", hear);
  }, []);
  const products = useQuery({ ...asked.products(), enabled: text !== "" });
  const found = find(today.data?.sites ?? [], products.data ?? [], text);
  return (
    <Combobox<Place>
      immediate={false}
      onChange={(place) => {
        if (place) go(place.to);
        setText("");
        box.current?.blur();
      }}
    >
      <div className="find" role="search">
        <ComboboxInput
          ref={box}
          aria-label="Find a site, product or act"
          placeholder="Find a site, product or act"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <kbd aria-hidden="true">/</kbd>
      </div>
      {text && (
        <ComboboxOptions static anchor="bottom end" className="menu w-[320px]">
          {found.map((place) => (
            <ComboboxOption key={place.to} value={place}>
              {place.state ? <StateWord state={place.state} /> : null}
              <span>{place.label}</span>
            </ComboboxOption>
          ))}
          {found.length === 0 && <p className="q">No site, product or act is called so.</p>}
        </ComboboxOptions>
      )}
    </Combobox>
  );
}

function Who({ name, live }: { name: string; live: boolean }) {
  const [now, setNow] = useState(new Date());
  const [theme, turn] = useTheme();
  useEffect(() => {
    const timer = window.setInterval(() => setNow(new Date()), 20_000);
    return () => window.clearInterval(timer);
  }, []);
  const leave = async () => {
    await told(api.DELETE("/api/v1/session"));
    queries.clear();
    window.location.assign("/sign-in");
  };
  return (
    <Menu>
      <MenuButton className="who text-left">
        {name}{" "}
        <span className="text-ink-3">
          · {day(now)}, {clock(now)}
          {live ? "" : " · not live"}
        </span>
      </MenuButton>
      <MenuItems anchor="bottom end" className="menu">
        <MenuItem>
          <button onClick={turn}>{theme === "dark" ? "Light" : "Dark"} page</button>
        </MenuItem>
        <MenuItem>
          <button onClick={() => void leave()}>Sign out</button>
        </MenuItem>
      </MenuItems>
    </Menu>
  );
}
