/** What happened, cut down to what a person looks for: the newest of each device. */

interface Entry {
  device: string;
}

/** Entries, newest first, with one line a device and how many earlier ones of it were left out; what is of no device
 * stays as it is. */
export function latestPerDevice<E extends Entry>(entries: E[]): { entry: E; earlier: number }[] {
  const kept = new Map<string, { entry: E; earlier: number }>();
  const rows: { entry: E; earlier: number }[] = [];
  for (const entry of entries) {
    const known = entry.device ? kept.get(entry.device) : undefined;
    if (known) known.earlier += 1;
    else {
      const row = { entry, earlier: 0 };
      if (entry.device) kept.set(entry.device, row);
      rows.push(row);
    }
  }
  return rows;
}
