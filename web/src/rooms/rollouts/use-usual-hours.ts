/** The hours of a new draft, as long as nobody chose any: those last used for the models that it is for. */
import { useQuery } from "@tanstack/react-query";
import { type Dispatch, type SetStateAction, useEffect, useState } from "react";
import type { Schemas } from "@/api/client";
import { type Draft, EMPTY, hoursOf, type WindowHours } from "./draft";
import { usualHours } from "./queries";

const isSame = (a: WindowHours, b: WindowHours) => JSON.stringify(a) === JSON.stringify(b);

/** Whose hours the draft has; undefined once somebody chose others. `settled` is the draft a moment ago. */
export function useUsualHours(
  draft: Draft,
  settled: Draft,
  setDraft: Dispatch<SetStateAction<Draft>>,
  isNew: boolean,
): Schemas["UsualHoursView"] | undefined {
  const [taken, setTaken] = useState(isNew ? hoursOf(EMPTY) : null);
  const untouched = taken !== null && isSame(hoursOf(draft), taken);
  const images = settled.changes.flatMap((c) => c.image_id ?? []);
  const { include, exclude, include_devices } = settled;
  const someone = images.length + include.length + (include_devices ?? []).length > 0;
  const usual = useQuery({
    ...usualHours({ images, include, exclude, include_devices }),
    enabled: untouched && someone,
  });
  const found = someone && !usual.isPlaceholderData ? usual.data : undefined;
  useEffect(() => {
    if (!untouched || !found || isSame(hoursOf(found), taken)) return;
    const { window_start, window_end, window_days } = found;
    setTaken(hoursOf(found));
    setDraft((d) => ({ ...d, window_start, window_end, window_days }));
  }, [untouched, found, taken, setDraft]);
  return untouched ? found : undefined;
}
