/** Saying for how long a kind of thing is kept: what goes by it is counted first, and agreed to. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { within } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Modal, Problem } from "@/parts/controls";
import { goesWith } from "./queries";

type Row = Schemas["KeptRow"];
const MOST_DAYS = 36_500;
const TYPING_MS = 400;

export function SetKept({ row, onClose }: { row: Row; onClose: () => void }) {
  const client = useQueryClient();
  const [forEver, setForEver] = useState(row.days === null);
  const [typed, setTyped] = useState(String(row.days ?? row.usual_days ?? row.least_days));
  const [archives, setArchives] = useState(row.archives);
  const days = Number(typed);
  const fits = /^\d+$/.test(typed) && days >= row.least_days && days <= MOST_DAYS;
  const isShorter = !forEver && (row.days === null || days < row.days);
  const settled = useDebounced(typed, TYPING_MS);
  const goes = useQuery({ ...goesWith(row.key, Number(settled)), enabled: fits && isShorter && settled === typed });
  const isCounted = !isShorter || (goes.data !== undefined && !goes.isFetching && settled === typed);
  const save = useMutation({
    mutationFn: () =>
      body(
        api.PUT("/api/v1/retention/{key}", {
          params: { path: { key: row.key } },
          body: { days: forEver ? null : days, archives, deletes: isShorter ? (goes.data?.deletes ?? null) : null },
        }),
      ),
    onSuccess: (saved) => {
      changed(client, "retention");
      toast(`${row.name}: kept ${saved.days === null ? "for ever" : `for ${saved.days} days`} from now on.`);
      onClose();
    },
    onError: () => goes.refetch(),
  });
  const deletes = isShorter && goes.data ? goes.data.deletes : 0;
  return (
    <Modal open onClose={onClose} title={`${row.name}: how long to keep`}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <p className="text-soft">
          {row.goes}. Stays: {within(row.stays)}.
        </p>
        <fieldset>
          <legend className="sr-only">Kept</legend>
          <Choice isOn={forEver} onTick={() => setForEver(true)}>
            for ever
          </Choice>
          <div className="flex items-center gap-2">
            <Choice isOn={!forEver} onTick={() => setForEver(false)}>
              for so many days:
            </Choice>
            <input
              className="field w-24"
              inputMode="numeric"
              aria-label="Days"
              value={typed}
              aria-invalid={!forEver && !fits}
              aria-describedby="kept-hint"
              onFocus={() => setForEver(false)}
              onChange={(e) => setTyped(e.target.value.trim())}
            />
          </div>
          <p id="kept-hint" className={!forEver && !fits ? "text-brick" : "text-soft"}>
            At least {row.least_days} days, which the program itself needs
            {row.usual_days === null ? "." : `; a new installation keeps them for ${row.usual_days}.`}
          </p>
        </fieldset>
        <label className="flex min-h-[28px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={archives}
            onChange={(e) => setArchives(e.target.checked)}
          />
          written to files on the server before it is deleted
        </label>
        <p aria-live="polite" className="min-h-[1.5em] font-semibold">
          {forEver
            ? "Nothing is deleted."
            : !fits
              ? ""
              : !isShorter
                ? "Nothing is deleted by this now."
                : !isCounted
                  ? goes.error
                    ? ""
                    : "Counting what goes…"
                  : deletes
                    ? `This deletes ${goes.data?.words} now, and each day what grows older. It cannot be undone.`
                    : "Nothing is that old yet; from then on it goes day by day."}
        </p>
        <Problem error={save.error ?? goes.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind={deletes ? "danger" : "main"}
            type="submit"
            disabled={save.isPending || (!forEver && (!fits || !isCounted))}
          >
            {deletes ? `Delete ${goes.data?.words}` : "Save"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Choice({ isOn, onTick, children }: { isOn: boolean; onTick: () => void; children: ReactNode }) {
  return (
    <label className="flex min-h-[32px] items-center gap-2">
      <input type="radio" name="kept" className="accent-[var(--verdigris)]" checked={isOn} onChange={onTick} />
      {children}
    </label>
  );
}
