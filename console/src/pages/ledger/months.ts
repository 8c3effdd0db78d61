const NAMES = "January February March April May June July August September October November December".split(" ");

/** The months from the first line of the ledger to now, newest first: "2026-11". */
export function months(since: string | null, now: number): string[] {
  const end = new Date(now);
  const begin = since ? new Date(since) : end;
  const found: string[] = [];
  for (let at = end.getFullYear() * 12 + end.getMonth(); at >= begin.getFullYear() * 12 + begin.getMonth(); at--)
    found.push(`${Math.floor(at / 12)}-${String((at % 12) + 1).padStart(2, "0")}`);
  return found;
}

/** "November 2026" */
export function monthName(month: string): string {
  const [year, number] = month.split("-");
  return `${NAMES[Number(number) - 1]} ${year}`;
}
