/** Pages for what is not there and for what broke: they say so, and where to go. */
import { type ErrorComponentProps, Link, useLocation } from "@tanstack/react-router";
import { usePageTitle } from "@/lib/title";
import { Button } from "@/parts/controls";
import { ROOMS } from "./rooms";

export function NotFound() {
  const { pathname } = useLocation();
  usePageTitle("Page not found");
  return (
    <div className="max-w-[60ch] px-5 py-8">
      <h1 className="text-2xl">Page not found</h1>
      <p className="mt-2">
        There is no page at <code className="break-all font-mono">{pathname}</code>. A link may be old, or the address
        mistyped.
      </p>
      <p className="mt-3">
        Go to{" "}
        {ROOMS.map((room, i) => (
          <span key={room.to}>
            <Link to={room.to} className="slot">
              {room.word}
            </Link>
            {i < ROOMS.length - 2 ? ", " : i === ROOMS.length - 2 ? " or " : ", or press Ctrl K to find anything."}
          </span>
        ))}
      </p>
    </div>
  );
}

/** What stands in a page's place when its code could not be loaded, or failed. */
export function PageFailed({ error, reset }: ErrorComponentProps) {
  usePageTitle("Page failed");
  const message = error instanceof Error ? error.message : String(error);
  const unloaded = /dynamically imported module|Importing a module/.test(message);
  return (
    <div role="alert" className="max-w-[60ch] px-5 py-8">
      <h1 className="text-2xl">{unloaded ? "This page could not be loaded" : "This page failed"}</h1>
      <p className="mt-2">
        {unloaded
          ? "Its code did not arrive: the connection may be lost, or the server has been upgraded since this tab was opened. Reload to get the current version."
          : "A fault in the interface stopped it. Nothing was sent to any device by this. The other pages still work."}
      </p>
      {!unloaded && <pre className="mt-2 whitespace-pre-wrap font-mono text-soft">{message}</pre>}
      <div className="mt-4 flex gap-2">
        <Button kind="main" onClick={() => (unloaded ? window.location.reload() : reset())}>
          {unloaded ? "Reload" : "Try again"}
        </Button>
      </div>
    </div>
  );
}
