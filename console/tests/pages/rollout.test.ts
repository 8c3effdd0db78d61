import { describe, expect, it } from "vitest";
import {
  approved,
  begun,
  dayAhead,
  type Draft,
  EVERYTHING,
  type Going,
  grounds,
  kin,
  type Member,
  nightOf,
  nightsOf,
  nightWords,
  opening,
  stopping,
  type Story,
  ticks,
  totals,
  twinWords,
  unfinished,
  wantWord,
  watched,
  wavesOf,
  waveText,
} from "../../src/pages/rollout/state";
import { Problem } from "../../src/api/client";
import { changedSince } from "../../src/pages/rollout/draft";

function member(site: string, more: Partial<Member> = {}): Member {
  const bare = { site, label: site, wave: "rest", moves: { core: 1, plugin: 2 }, watched: "", covers: [] };
  return { ...bare, starts_at: "2026-11-28T01:00:00Z", ...more } as unknown as Member;
}

function draft(members: Member[]): Draft {
  const moves = { core: members.length, theme: 0, plugin: 2 * members.length, runtime: 0 };
  const stays_out = [{ sites: ["z"], labels: ["Z"], state: "unknown", text: "silent" }];
  return { asked: EVERYTHING, what: "everything ready", where: "the fleet", members, moves, stays_out } as unknown as Draft;
}

const going = (state: Going["state"]) => ({ site: state, state }) as unknown as Going;

describe("a rollout before it is approved", () => {
  it("adds up what it moves, by kind", () => {
    const sum = totals(draft([member("a"), member("b")]));
    expect(sum.all).toBe("6 moves on 2 sites");
    expect(sum.kinds).toEqual(["2 core", "4 plugins"]);
  });

  it("counts a night from noon to noon, so that it is one before and after midnight", () => {
    expect(nightOf("2026-11-27T23:30:00Z")).toBe(nightOf("2026-11-28T04:00:00Z"));
    expect(nightsOf([member("a"), member("b", { starts_at: null })])).toHaveLength(1);
  });

  it("approves exactly the sites that were shown, less those left out, and keeps the canaries", () => {
    const told = draft([member("a", { wave: "canary" }), member("b", { watched: "it migrates" }), member("c")]);
    expect(watched(told).map((one) => one.site)).toEqual(["b"]);
    const body = approved(told, { patches: "2026-12-11", restore: false, why: "w", without: ["b"] });
    expect(body.draft).toBe(told.id);
    expect(body.without).toEqual(["b"]);
    expect(body.sites).toEqual([]);
    expect([body.named, body.client, body.patches_until, body.restore_anyway, body.why]).toEqual(["", null, "2026-12-11", false, "w"]);
  });

  it("says that its times are not final, or that something changed since", () => {
    const told = draft([member("a")]);
    expect(unfinished({ ...told, current: true, improved: 1 })).toBe("");
    expect(unfinished({ ...told, current: true, improved: 0.4 })).toContain("a first draft");
    expect(unfinished({ ...told, current: false, improved: 1 })).toContain("Something changed since");
  });

  it("reads from a refusal what changed, and which draft is the one to look at now", () => {
    const details = { changes: ["Ness Ferries does not go."], draft: "9f2c" };
    expect(changedSince(new Problem(409, "draft-changed", "", details))).toEqual({ lines: details.changes, draft: "9f2c" });
    expect(changedSince(new Problem(410, "draft-gone", ""))).toBeNull();
    expect(changedSince(new Error("away"))).toBeNull();
  });

  it("tells the waves of the rest one by one, each with the gate after it", () => {
    const some = [member("a", { wave: "canary", turn: 1 }), member("b", { turn: 2 }), member("c", { turn: 1 }), member("d", { turn: 2 })];
    const told = wavesOf(some).map((wave) => [wave.label, wave.gate, wave.members.map((one) => one.site).join()]);
    expect(told).toEqual([
      ["Canaries", "canaries", "a"],
      ["The rest, 1 of 2", "wave-2", "c"],
      ["The rest, 2 of 2", "wave-3", "b,d"],
    ]);
    expect(wavesOf([member("a", { turn: 1 })]).map((wave) => wave.label)).toEqual(["The rest"]);
  });

  it("proposes a day so far ahead", () => {
    expect(dayAhead(14, Date.parse("2026-11-27T10:00:00Z"))).toBe("2026-12-11");
  });
});

describe("a rollout as it goes", () => {
  it("says how a wave stands and whether it has begun", () => {
    expect(waveText([going("done"), going("done"), going("failed")])).toBe("2 done, 1 failed");
    expect(begun([going("booked"), going("to be booked")])).toBe(false);
    expect(begun([going("booked"), going("failed")])).toBe(true);
    expect(kin(going("failed"))).toBe("failed");
  });

  it("tells what stopping leaves and takes", () => {
    const story = { members: ["done", "booked", "to be booked", "running", "left out"].map((s) => going(s as Going["state"])) };
    expect(stopping(story as unknown as Story)).toEqual({ stay: 1, out: 2, run: 1 });
  });
});

describe("a rollout as it is drawn", () => {
  const NOW = new Date(2026, 10, 24, 20, 0).getTime(); // Tue 24 Nov
  const at = (date: number, hour: number) => new Date(2026, 10, date, hour, 30).toISOString();
  const goes = (site: string, more: Partial<Going>) => ({ site, label: site, wave: "rest", state: "booked", covers: [], why: "", ...more }) as unknown as Going;

  it("puts a wave's members on the ground of their night, those without one last", () => {
    const some = [
      goes("out", { state: "left out", at: at(25, 1) }),
      goes("none", { state: "to be booked" }),
      goes("late", { at: at(25, 2) }),
      goes("early", { at: at(24, 23) }),
      goes("next", { at: at(26, 1) }),
    ];
    expect(grounds(some, NOW).map((one) => [one.label, one.members.map((member) => member.site).join()])).toEqual([
      ["tonight, Tue 24 to Wed 25 Nov", "early,late"],
      ["tomorrow, Wed 25 to Thu 26 Nov", "next"],
      ["not booked yet", "none"],
      ["left out", "out"],
    ]);
    expect(nightWords("2026-11-30", NOW)).toBe("Mon 30 Nov to Tue 1 Dec");
  });

  it("tells a reason that several have at once", () => {
    const told = (...whys: string[]) => grounds(whys.map((why, n) => goes(`${n}`, { at: at(24, 23), why })), NOW).map((one) => one.reason);
    expect(told("the window opens", "the gate opens", "the window opens")).toEqual(["The window opens"]);
    expect(told("the window opens", "the gate opens")).toEqual([""]);
    expect(told("", "")).toEqual([""]);
  });

  const story = (gate: Partial<Story["gates"][number]>, quiet = 1200) => {
    const whole = { id: "canaries", label: "Canaries", state: "quiet", text: "", opens: null, quiet_since: null, after: ["a"], before: ["b"], ...gate };
    return { rollout: { quiet_minutes: quiet }, members: [], gates: [whole] } as unknown as Story;
  };
  const gateOf = (told: Story) => told.gates[0] as Story["gates"][number];

  it("draws a tick an hour of quiet, and as many gone as have passed", () => {
    const seven = new Date(NOW - 7.5 * 3_600_000).toISOString();
    const told = (gate: Partial<Story["gates"][number]>, quiet?: number) => {
      const one = story(gate, quiet);
      return ticks(one, gateOf(one), NOW);
    };
    expect(told({ quiet_since: seven })).toEqual({ of: 20, gone: 7 });
    expect(told({ state: "waits" })).toEqual({ of: 20, gone: 0 });
    expect(told({ state: "open", quiet_since: seven })).toEqual({ of: 20, gone: 20 });
    expect(told({ quiet_since: seven }, 4800)).toEqual({ of: 24, gone: 2 }); // 80 h: a tick is more than an hour
    expect(told({ quiet_since: seven }, 0)).toEqual({ of: 0, gone: 0 });
  });

  it("says when a gate opens, and that it hangs on a word", () => {
    const told = (gate: Partial<Story["gates"][number]>) => {
      const one = story(gate);
      return opening(one, gateOf(one), NOW);
    };
    expect(told({ state: "open", opens: at(21, 21) })).toBe("Opened Sat 21 Nov, 21:30.");
    expect(told({ state: "quiet", opens: at(24, 22) })).toBe("Opens Tue 24 Nov, 22:30.");
    expect(told({ state: "wants a word", quiet_since: at(24, 2) })).toBe("Opens Tue 24 Nov, 22:30, if you say so.");
    expect(told({ state: "wants a word", quiet_since: at(22, 2) })).toBe("Opens when you say so.");
    expect(told({ state: "waits" })).toBe("Shut.");
  });

  it("tells beside a twin what it does for its own site, and who waits for a word", () => {
    const twin = goes("a", { wave: "twin" });
    expect(twinWords(story({ id: "b", state: "waits" }), twin)).toBe("Opens its own site 20 h later.");
    expect(twinWords(story({ id: "b", state: "open" }), twin)).toBe("Its own site may go.");
    expect(twinWords(story({ id: "canaries" }), twin)).toBe("");
    expect([...wantWord(story({ state: "wants a word" }))]).toEqual(["b"]);
    expect([...wantWord(story({ state: "quiet" }))]).toEqual([]);
  });
});
