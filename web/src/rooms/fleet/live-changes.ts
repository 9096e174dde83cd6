/** What changed in the facts of a device between two of its reports. */

export interface LiveChange {
  at: string;
  key: string;
  before: unknown;
  after: unknown;
}

const MOST = 40;

/** Each fact that is new, gone or another than before, by its key in order. */
export function changesBetween(
  before: Record<string, unknown>,
  after: Record<string, unknown>,
  at: string,
): LiveChange[] {
  const keys = [...new Set([...Object.keys(before), ...Object.keys(after)])].sort();
  return keys
    .filter((key) => before[key] !== after[key])
    .map((key) => ({ at, key, before: before[key], after: after[key] }));
}

/** The changes with further ones in front; the oldest beyond the most are left out. */
export const withChanges = (kept: LiveChange[], more: LiveChange[]): LiveChange[] => [...more, ...kept].slice(0, MOST);
