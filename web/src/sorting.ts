// The order of the list of runs.
import type { RunRow } from "./api";

export type Column = "id" | "status" | "path" | "text" | "turns" | "calls" | "tokens" | "cost" | "ms" | "opened_at";
export interface Sort {
  by: Column;
  down: boolean;
}

const value = (r: RunRow, by: Column): string | number => (by === "tokens" ? r.tokens.in + r.tokens.out : by === "path" ? r.path.join(" ") : r[by]);
const texts: readonly Column[] = ["id", "status", "path", "text"];

// next gives the order after a click on a column: figures begin with the largest, texts with the first of the alphabet.
export const next = (s: Sort, by: Column): Sort => (s.by === by ? { by, down: !s.down } : { by, down: !texts.includes(by) });

// sorted gives runs in an order; those that are alike stay as they came.
export function sorted(runs: readonly RunRow[], { by, down }: Sort): RunRow[] {
  const sign = down ? -1 : 1;
  return [...runs].sort((a, b) => {
    const [x, y] = [value(a, by), value(b, by)];
    return sign * (typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y)));
  });
}
