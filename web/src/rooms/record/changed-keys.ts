/** What an act changed, of what the record keeps from before and after it. */

type Kept = Record<string, unknown>;

/** The keys whose values differ, each with what was and what is, in words. */
export function changedKeys(before: unknown, after: unknown): [string, string, string][] {
  const was = asKept(before);
  const is = asKept(after);
  const keys = [...new Set([...Object.keys(was), ...Object.keys(is)])];
  return keys
    .filter((key) => JSON.stringify(was[key]) !== JSON.stringify(is[key]))
    .map((key) => [key, inWords(was[key]), inWords(is[key])]);
}

function asKept(value: unknown): Kept {
  return value !== null && typeof value === "object" ? (value as Kept) : {};
}

function inWords(value: unknown): string {
  if (value === undefined || value === null || value === "") return "–";
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (Array.isArray(value)) return value.length ? value.map(inWords).join(", ") : "–";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}
