/** Names or ids in a text: one a line or between commas, semicolons or tabs; each once; a heading is no id.
 * Of a table only the first column counts, so that a manufacturer's list can be taken as it is. */
export function idsIn(text: string): string[] {
  const lines = text
    .replace(/^\uFEFF/, "")
    .split(/\r?\n/)
    .map((l) => l.trim())
    .filter(Boolean);
  const table = lines.length > 1 && HEADING.test(lines[0] ?? "");
  const words = table
    ? lines.slice(1).map((l) => l.split(/[,;\t]/)[0] ?? "")
    : lines.flatMap((l) => l.split(/[\s,;]+/));
  return [...new Set(words.map((w) => w.trim().replace(/^"(.*)"$/, "$1")).filter(Boolean))];
}

const HEADING = /^"?(uid|name|serial|device|device id|id)"?\s*([,;\t]|$)/i;
