/** Narrowing the fleet: clauses joined to a rule, and quick words as a rule. */
import { written } from "@/parts/clauses";

/** Two rules that must both hold; each in parentheses where it has an "or". */
export function both(first: string, second: string): string {
  const parts = [first.trim(), second.trim()].filter(Boolean);
  if (parts.length < 2) return parts[0] ?? "";
  return parts.map((p) => (/\bor\b/i.test(p) ? `(${p})` : p)).join(" and ");
}

/** A rule narrowed to one value of a field; unchanged where it says so already. */
export function narrowed(rule: string, field: string, value: string): string {
  const clause = `${field} = ${written(value)}`;
  return rule
    .trim()
    .split(/\s+and\s+/)
    .includes(clause)
    ? rule.trim()
    : both(rule, clause);
}

/** A rule narrowed to some values of a field. */
export function narrowedToAny(rule: string, field: string, values: string[]): string {
  const [only] = values;
  if (values.length === 1 && only !== undefined) return narrowed(rule, field, only);
  return both(rule, `${field} any of (${values.map(written).join(", ")})`);
}

/** What the quick words find, as a rule: each word somewhere in name, uid, serial, model or site. */
export function wordsRule(words: string): string {
  const places = ["name", "uid", "serial", "model", "site"];
  return words
    .split(/\s+/)
    .filter(Boolean)
    .slice(0, 8)
    .map((w) => `(${places.map((p) => `${p} contains ${written(w)}`).join(" or ")})`)
    .join(" and ");
}
