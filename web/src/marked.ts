// What a reader would not see: characters that change the direction of what follows, that only look like a blank, or
// that are nothing at all.
const names: Record<string, string> = {
  "\u00a0": "no-break space", "\u00ad": "soft hyphen", "\u061c": "Arabic letter mark", "\u1680": "Ogham space", "\u180e": "Mongolian vowel separator", "\u200b": "zero width space", "\u200c": "zero width non-joiner", "\u200d": "zero width joiner",
  "\u200e": "left-to-right mark", "\u200f": "right-to-left mark", "\u2028": "line separator", "\u2029": "paragraph separator", "\u202a": "left-to-right embedding", "\u202b": "right-to-left embedding", "\u202c": "end of direction", "\u202d": "left-to-right override",
  "\u202e": "right-to-left override", "\u202f": "narrow no-break space", "\u205f": "mathematical space", "\u2060": "word joiner", "\u2066": "left-to-right isolate", "\u2067": "right-to-left isolate", "\u2068": "first strong isolate", "\u2069": "end of isolate", "\u3000": "ideographic space", "\ufeff": "byte order mark",
};
const odd = /[\u0000-\u0008\u000b-\u001f\u007f-\u00a0\u00ad\u061c\u1680\u180e\u2000-\u200f\u2028-\u202f\u205f-\u206f\u3000\ufeff]|[\u{e0000}-\u{e007f}]/gu;

export interface Piece {
  text: string;
  mark?: string; // what it is, where it would not be seen
}

// pieces parts a text at what would not be seen in it.
export function pieces(text: string): Piece[] {
  const out: Piece[] = [];
  let at = 0;
  for (const m of text.matchAll(odd)) {
    if (m.index > at) out.push({ text: text.slice(at, m.index) });
    const code = "U+" + m[0].codePointAt(0)!.toString(16).toUpperCase().padStart(4, "0");
    out.push({ text: code, mark: names[m[0]] ?? (/[\u2000-\u200a]/.test(m[0]) ? "a space of another width" : "a character that is not shown") });
    at = m.index + m[0].length;
  }
  if (at < text.length) out.push({ text: text.slice(at) });
  return out;
}
