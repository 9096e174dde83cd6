/** The mail that the demo sent, which never leaves the machine. */
import { useQuery } from "@tanstack/react-query";
import { useClock } from "@/lib/clock";
import { instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Empty } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { demoMail } from "./queries";

export function DemoMail() {
  usePageTitle("The demo's mail");
  const asked = useQuery(demoMail);
  const { now, zone } = useClock();
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <h1 className="mb-1 text-2xl">The demo's mail</h1>
      <p className="mb-3 text-soft">
        What the demo mails stays on this machine. You see what went to you; administrators see all of it.
      </p>
      <Loaded
        of={asked}
        what="The mail"
        rows={4}
        empty={<Empty title="No mail yet">Invitations, and what rules tell people, come here.</Empty>}
      >
        {(mails) => (
          <ul className="space-y-2.5" aria-label="Mail">
            {mails.map((m) => (
              <li key={m.id} className="rounded-md border border-rule bg-card px-4 py-3">
                <p className="flex flex-wrap gap-x-4">
                  <strong>{m.subject}</strong>
                  <span className="text-soft">to {m.to}</span>
                  {m.at && <span className="ml-auto text-soft">{instant(m.at, zone, now)} real time</span>}
                </p>
                <Text text={m.text} />
              </li>
            ))}
          </ul>
        )}
      </Loaded>
    </div>
  );
}

/** A mail's text; addresses of this server are links. */
function Text({ text }: { text: string }) {
  return (
    <div className="mt-1 whitespace-pre-wrap">
      {text.split(/(https?:\/\/\S+)/).map((part, n) =>
        part.startsWith(`${location.origin}/`) ? (
          // biome-ignore lint/suspicious/noArrayIndexKey: a text that does not change
          <a key={n} className="slot" href={part}>
            {part}
          </a>
        ) : (
          part
        ),
      )}
    </div>
  );
}
