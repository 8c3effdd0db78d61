/** The time by the service's clock: the reader's own may be wrong, and a demo's may be put ahead. */

const NEAR = 5_000; // an answer was on its way for less

let ahead = 0;

/** Take in what the service's clock shows. */
export function showsNow(told: string | null): void {
  const off = Date.parse(told ?? "") - Date.now();
  if (Math.abs(off - ahead) > NEAR) ahead = off;
}

export const now = (): number => Date.now() + ahead;
