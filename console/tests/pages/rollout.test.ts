import { describe, expect, it } from "vitest";
import {
  approved,
  begun,
  dayAhead,
  type Draft,
  EVERYTHING,
  type Going,
  kin,
  type Member,
  nightOf,
  nightsOf,
  stopping,
  type Story,
  totals,
  watched,
  wavesOf,
  waveText,
} from "../../src/pages/rollout/state";

function member(site: string, more: Partial<Member> = {}): Member {
  const bare = { site, label: site, wave: "rest", moves: { core: 1, plugin: 2 }, watched: "", covers: [] };
  return { ...bare, starts_at: "2026-11-28T01:00:00Z", ...more } as unknown as Member;
}

function draft(members: Member[]): Draft {
  const moves = { core: members.length, theme: 0, plugin: 2 * members.length, runtime: 0 };
  return { asked: EVERYTHING, what: "everything ready", where: "the fleet", members, moves } as unknown as Draft;
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
    expect(body.sites).toEqual(["a", "c"]);
    expect(body.canaries).toEqual(["a"]);
    expect([body.named, body.client, body.patches_until, body.restore_anyway, body.why]).toEqual(["the fleet", null, "2026-12-11", false, "w"]);
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
