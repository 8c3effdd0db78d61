import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import type { State } from "../api/client";
import { STATES, StateWord } from "../states/states";

/** A word of a filter's sentence: what narrows is in accent. */
export function Word({
  any,
  value,
  options,
  onChange,
}: {
  any: string;
  value: string;
  options: string[];
  onChange: (value: string) => void;
}) {
  return (
    <Listbox value={value} onChange={onChange}>
      <ListboxButton className={value ? "word on" : "word"}>{value || any}</ListboxButton>
      <ListboxOptions anchor="bottom start" className="menu">
        <ListboxOption value="">{any}</ListboxOption>
        {options.map((option) => (
          <ListboxOption key={option} value={option}>
            {option in STATES ? <StateWord state={option as State} /> : option}
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}
