import { describe, expect, it } from "vitest";
import { exactly, parse, Refused, type RunRow, type Step } from "./api";
import { hasFormulas, moneyEscaped } from "./formulas";
import { pieces } from "./marked";
import { count, lane, spaced, span, unit, value } from "./say";
import { next, sorted } from "./sorting";
import { around, atFirst, lanesOf, many, seen } from "./tree";

describe("formulas and money", () => {
  it.each(["It costs $5, and $10 with power.", "between $5 and $10 a night ($7 now)", "$5–$10", "a lone $", "`$a$` is code", "```\n$a$\n```", "\\$a\\$", "$ a $"])("%s has none", (text) => {
    expect(hasFormulas(text)).toBe(false);
  });
  it.each(["The area is $a^2$.", "$$\nx = 1\n$$", "It costs $5, and the area is $a^2$.", "$x$, $y$"])("%s has some", (text) => {
    expect(hasFormulas(text)).toBe(true);
  });
  it("keeps the formula and escapes the money", () => {
    expect(moneyEscaped("It costs $5, and the area is $a^2$, or $10.")).toBe("It costs \\$5, and the area is $a^2$, or \\$10.");
    expect(moneyEscaped("`$5` and \\$6")).toBe("`$5` and \\$6");
    expect(moneyEscaped("$$x$$ for $5")).toBe("$$x$$ for \\$5");
  });
});

describe("what would not be seen", () => {
  it("is marked, and nothing is lost", () => {
    expect(pieces("C4")).toEqual([{ text: "C4" }]);
    expect(pieces("C\u202e4\u00a0x")).toEqual([{ text: "C" }, { text: "U+202E", mark: "right-to-left override" }, { text: "4" }, { text: "U+00A0", mark: "no-break space" }, { text: "x" }]);
    expect(pieces("\u2003\u{e0041}").map((p) => p.mark)).toEqual(["a space of another width", "a character that is not shown"]);
    expect(pieces("Zoë\n\tné ☂")).toEqual([{ text: "Zoë\n\tné ☂" }]);
  });
});

describe("figures", () => {
  it("are said as people say them", () => {
    expect([span(412), span(61_000), span(600_000), span(8_000_000)]).toEqual(["412 ms", "61 s", "10 min", "2 h"]);
    expect([spaced(999), spaced(1_234_567)]).toEqual(["999", "1 234 567"]);
    expect([count(1, "turn"), count(2, "turn")]).toEqual(["1 turn", "2 turns"]);
    expect(value("2026-05-08T12:00:00+01:00")).toMatch(/^Fri,? 8 May, 12:00$/);
    expect(value({ a: 1 })).toBe('{"a":1}');
    expect(lane(["desk", "berths"], "berths")).toBe("var(--lane-2)");
  });
  it("have a unit where their name ends with one", () => {
    expect([unit("length_m", { type: "number" }), unit("wind_kn", { type: "integer" }), unit("nights", { type: "integer" }), unit("name_m", { type: "string" })]).toEqual(["m", "kn", "", ""]);
  });
  it.skipIf(!exactly)("that are too long for this language stay exact", () => {
    expect(parse<{ n: unknown }>('{"n": 9007199254740993}').n).toBe("9007199254740993");
    expect(JSON.stringify(parse('{"n": 9007199254740993}', exactly))).toBe('{"n":9007199254740993}');
  });
});

describe("the list of runs", () => {
  const run = (id: string, tokens: number, text: string) => ({ id, text, path: ["desk"], tokens: { in: tokens, out: 0 }, opened_at: id }) as unknown as RunRow;
  const runs = [run("c", 5, "b"), run("b", 20, "a"), run("a", 5, "c")];
  const ids = (by: Parameters<typeof next>[1], down: boolean) => sorted(runs, { by, down }).map((r) => r.id).join("");
  it("is sorted both ways, and what is alike stays as it came", () => {
    expect([ids("tokens", true), ids("tokens", false), ids("text", false), ids("opened_at", true)]).toEqual(["bca", "cab", "bca", "cba"]);
  });
  it("begins with the largest figure and the first text, and turns round at the second click", () => {
    const s = next({ by: "opened_at", down: true }, "tokens");
    expect(s).toEqual({ by: "tokens", down: true });
    expect(next(s, "tokens")).toEqual({ by: "tokens", down: false });
    expect(next(s, "text")).toEqual({ by: "text", down: false });
  });
});

it("an error says what happened and what to do", () => {
  expect(new Refused({ type: "/problems#request", title: "Bad Request", status: 400, detail: "the message is empty", remedy: "Write what you want." }).message).toBe("The message is empty. Write what you want.");
});

describe("a tree of threads", () => {
  const step = (n: number, id: string, lane: string, depth = 0, thread?: string) => ({ n, id, lane, depth, thread }) as unknown as Step;
  const lanes = [
    { id: "desk", agent: "desk", depth: 0, turns: 2, calls: 2 },
    { id: "desk/dues", agent: "dues", depth: 1, under: "desk", turns: 2, calls: 1 },
    { id: "desk/dues/tides", agent: "tides", depth: 2, under: "desk/dues", turns: 1, calls: 0 },
    { id: "berths", agent: "berths", depth: 0, turns: 1, calls: 0 },
  ];
  const steps = [step(1, "t1", "desk"), step(2, "t1.c1", "desk"), step(3, "t1.c1.t1", "desk/dues", 1, "t1.c1"), step(4, "t1.c1.t1.c1", "desk/dues", 1, "t1.c1"), step(5, "t1.c1.t1.c1.t1", "desk/dues/tides", 2, "t1.c1.t1.c1"), step(6, "t2", "berths")];
  const ids = (folded: string[]) => {
    const t = seen(lanes, steps, new Set(folded));
    return [t.lanes.map((l) => l.id), t.steps.map((s) => s.n)];
  };
  it("is seen whole, or without what a lane asked", () => {
    expect(ids([])).toEqual([lanes.map((l) => l.id), [1, 2, 3, 4, 5, 6]]);
    expect(ids(["desk/dues"])).toEqual([["desk", "desk/dues", "berths"], [1, 2, 3, 4, 6]]);
    expect(ids(["desk"])).toEqual([["desk", "berths"], [1, 2, 6]]);
    expect([...seen(lanes, steps, new Set(["desk"])).folds]).toEqual([
      ["desk", { folded: true, count: 2 }],
      ["desk/dues", { folded: false, count: 1 }],
    ]);
  });
  it("shows the consult in the place of what is folded away in it", () => {
    const t = seen(lanes, steps, new Set(["desk"]));
    expect([1, 3, 5, 6, undefined].map((n) => around(t, steps, n))).toEqual([1, 2, 2, 6, undefined]);
  });
  it("is folded at first where it is long", () => {
    expect([...atFirst(5, lanes)]).toEqual([]);
    expect([...atFirst(many + 1, lanes)]).toEqual(["desk", "desk/dues"]);
    expect(lanesOf(undefined, ["desk"])).toEqual([{ id: "desk", agent: "desk", depth: 0, turns: 0, calls: 0 }]);
  });
});
