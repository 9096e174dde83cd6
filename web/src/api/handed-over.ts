/** Devices handed from a list to a composer. An address cannot hold two thousand names, so it holds a key, and the
 * browser keeps the names for as long as the tab is open. */
const PREFIX = "brisk-herald-devices-";
/** As many as an audience may name. */
export const MOST_NAMED = 2000;

export function handOver(devices: string[]): string {
  const key = Math.random().toString(36).slice(2, 10);
  sessionStorage.setItem(PREFIX + key, JSON.stringify(devices));
  return key;
}

/** The names that were handed over; none where the key is unknown, as in another tab. */
export function handedOver(key: string | undefined): string[] {
  try {
    const kept: unknown = JSON.parse((key && sessionStorage.getItem(PREFIX + key)) || "[]");
    return Array.isArray(kept) ? kept.filter((name) => typeof name === "string") : [];
  } catch {
    return [];
  }
}
