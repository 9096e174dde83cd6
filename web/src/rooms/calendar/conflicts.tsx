/** What does not fit, in words, each with changes that would fix it. */
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "@/api/client";
import { Button } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { Loaded } from "@/parts/views";
import { conflicts as conflictsQuery } from "./queries";

type Fix = Schemas["MoveRow"];

export function Conflicts({ onFix }: { onFix: (fix: Fix) => void }) {
  const asked = useQuery(conflictsQuery);
  return (
    <section aria-labelledby="does-not-fit">
      <h2 id="does-not-fit" className="mb-1 text-[1.05rem]">
        Does not fit
      </h2>
      <Loaded
        of={asked}
        what="What does not fit"
        rows={2}
        empty={<p className="text-soft">All that is planned for the next weeks fits together.</p>}
      >
        {(found) => (
          <ul className="space-y-2.5">
            {found.map((c) => (
              <li key={c.key}>
                <p>
                  <span aria-hidden className="text-saffron">
                    ◆{" "}
                  </span>
                  {c.words}{" "}
                  <ObjectLink kind={c.kind} id={c.id} className="slot">
                    Look
                  </ObjectLink>
                </p>
                <p className="flex flex-wrap gap-x-3">
                  {c.fixes.map((fix) => (
                    <Button key={fix.words} kind="quiet" needs="operate-all" onClick={() => onFix(fix)}>
                      {fix.words}…
                    </Button>
                  ))}
                </p>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
    </section>
  );
}
