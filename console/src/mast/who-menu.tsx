import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { useEffect, useRef } from "react";
import { api, queries, told } from "../api/client";
import { useTheme } from "./theme";

/** What the person who is signed in may do with the console itself. It opens at once: it is loaded
 * when somebody has asked for it. */
export function WhoMenu({ children }: { children: React.ReactNode }) {
  const [theme, turn] = useTheme();
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    button.current?.focus();
    const enter = new KeyboardEvent("keydown", { key: "Enter", bubbles: true, cancelable: true });
    button.current?.dispatchEvent(enter);
  }, []);
  const leave = async () => {
    await told(api.DELETE("/api/v1/session"));
    queries.clear();
    window.location.assign("/sign-in");
  };
  return (
    <Menu>
      <MenuButton ref={button} className="who text-left">
        {children}
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
