import { expect, test } from "vitest";
import { atSites, wordOf } from "../../src/pages/licences/state";

const site = (label: string, state: Parameters<typeof atSites>[0][number]["state"]) => ({ label, state });

test("sites where a code is in place are a number, the others stand by name", () => {
  const told = atSites([site("Ness", "registered"), site("Skerry", "grace"), site("Fulmar", "missing")]);
  expect(told).toBe("3 sites: Skerry in grace, Fulmar missing");
  expect(atSites([site("Ness", "registered")])).toBe("1 site");
  expect(atSites([site("Ness", "by the service"), site("Skerry", "by the service")])).toBe("2 sites");
});

test("of many that are not in place two are named, and none at all is told", () => {
  const told = atSites(["a", "b", "c", "d"].map((label) => site(label, "missing")));
  expect(told).toBe("4 sites: a missing, b missing, 2 more not in place");
  expect(atSites([])).toBe("no site runs it");
});

test("what a maker said of a credential is told as seen", () => {
  expect(["valid", "refused", "not yet", "other code"].map(wordOf)).toEqual([
    "seen valid",
    "seen refused",
    "not seen yet",
    "other code",
  ]);
});
