// Formulas and money share a sign. A formula begins with a dollar that something other than a blank follows, and ends
// with one that no blank precedes and no digit follows; every other dollar is money.

const formula = /(?<![\\$])\$(?=[^\s$])((?:[^$\n\\]|\\.)*?[^\s\\$])\$(?![\d$])/g;
const block = /(?<!\\)\$\$[^$]+\$\$/g;
const code = /(`+)[\s\S]*?\1|~~~[\s\S]*?~~~/g;

// outside applies a change to what is no code.
function outside(text: string, change: (s: string) => string): string {
  let out = "";
  let at = 0;
  for (const m of text.matchAll(code)) {
    out += change(text.slice(at, m.index)) + m[0];
    at = m.index + m[0].length;
  }
  return out + change(text.slice(at));
}

// hasFormulas says whether a text has a formula in it.
export function hasFormulas(text: string): boolean {
  let any = false;
  outside(text, (s) => {
    any ||= s.search(formula) >= 0 || s.search(block) >= 0;
    return s;
  });
  return any;
}

// moneyEscaped puts a backslash before each dollar that is money.
export function moneyEscaped(text: string): string {
  return outside(text, (s) => {
    const keep: [number, number][] = [];
    for (const m of s.matchAll(block)) keep.push([m.index, m.index + m[0].length]);
    for (const m of s.matchAll(formula)) if (!keep.some(([a, b]) => m.index >= a && m.index < b)) keep.push([m.index, m.index + m[0].length]);
    return s.replace(/\\?\$/g, (d, i: number) => (d.length === 2 || keep.some(([a, b]) => i >= a && i < b) ? d : "\\$"));
  });
}
