import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useLayoutEffect, useRef } from "react";
import { useNavigate } from "react-router";
import { asked } from "../api/client";
import { StateWord } from "../states/states";
import { find, type Place } from "./find";

/** The command box itself: any site, product or act by a part of its name, worst first. */
export function FindBox({ text, onText }: { text: string; onText: (text: string) => void }) {
  const box = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const today = useQuery(asked.today());
  const products = useQuery({ ...asked.products(), enabled: text !== "" });
  const places = find(today.data?.sites ?? [], products.data ?? [], text);
  // It takes the place of the stand-in that had the focus.
  useLayoutEffect(() => {
    box.current?.focus();
    box.current?.setSelectionRange(box.current.value.length, box.current.value.length);
  }, []);
  return (
    <Combobox<Place>
      immediate={false}
      onChange={(place) => {
        if (place) go(place.to);
        onText("");
        box.current?.blur();
      }}
    >
      <div className="find" role="search">
        <ComboboxInput
          ref={box}
          aria-label="Find a site, product or act"
          placeholder="Find a site, product or act"
          value={text}
          onChange={(event) => onText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== "Escape") return;
            onText("");
            box.current?.blur();
          }}
        />
        <kbd aria-hidden="true">/</kbd>
      </div>
      {text && (
        <ComboboxOptions static anchor="bottom end" className="menu w-[320px]">
          {places.map((place) => (
            <ComboboxOption key={place.to} value={place}>
              {place.state ? <StateWord state={place.state} /> : null}
              <span>{place.label}</span>
            </ComboboxOption>
          ))}
          {places.length === 0 && <p className="q">No site, product or act is called so.</p>}
        </ComboboxOptions>
      )}
    </Combobox>
  );
}
