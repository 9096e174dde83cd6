/** The top bar and the work under it. */
import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useLocation, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { DropdownMenu } from "radix-ui";
import { useCallback, useEffect, useRef, useState } from "react";
import { Toaster } from "sonner";
import { rememberCsrf, type Schemas } from "@/api/client";
import { useLive } from "@/api/live";
import { session } from "@/api/queries";
import { ClockProvider, useClock } from "@/lib/clock";
import { city } from "@/lib/format";
import { onTitle } from "@/lib/title";
import { Failed, Skeleton } from "@/parts/views";
import { SetUpFirst } from "@/rooms/people/set-up-first";
import { SignIn } from "@/rooms/people/sign-in";
import { StandsIn } from "@/rooms/people/stand-in";
import { useSignOut } from "@/rooms/people/use-sign-out";
import { AgreementDialog } from "./agreement-dialog";
import { Bell } from "./bell";
import { Keys } from "./keys";
import { Palette } from "./palette";
import { ROOMS } from "./rooms";
import { nextTheme, setTheme } from "./theme";
import { Troubles } from "./troubles";

export function Shell() {
  const asked = useQuery(session);
  const { data } = asked;
  const { pathname } = useLocation();
  if (data) rememberCsrf(data.csrf);
  if (!data) return <Threshold asked={asked} />;
  if (pathname.startsWith("/welcome/")) return <Outlet />; // for whoever has no account yet
  if (!data.user) return <SignIn demo={data.demo} />;
  return (
    <ClockProvider zone={data.user.time_zone} waiting={(health) => <Threshold asked={health} />}>
      {data.sets_up_first ? <SetUpFirst user={data.user} /> : <House user={data.user} />}
      <Toaster position="bottom-left" toastOptions={{ className: "!bg-card !text-ink !border-rule !rounded-md" }} />
    </ClockProvider>
  );
}

/** Before it is known who looks, and what time it is here. */
function Threshold({ asked }: { asked: { error: Error | null; refetch: () => unknown } }) {
  return (
    <div className="max-w-[60ch] p-8">
      {asked.error ? <Failed what="Brisk Herald" of={asked} /> : <Skeleton rows={3} />}
    </div>
  );
}

/** After a navigation: the focus goes to the work, and its title is read out. */
function useArrival(): string {
  const { pathname } = useLocation();
  const [title, setTitle] = useState("");
  const first = useRef(pathname);
  useEffect(() => onTitle(setTitle), []);
  useEffect(() => {
    if (first.current === pathname) return;
    first.current = "";
    document.getElementById("work")?.focus();
  }, [pathname]);
  return title;
}

function House({ user }: { user: Schemas["Me"] }) {
  const [finding, setFinding] = useState(false);
  const find = useCallback(() => setFinding(true), []);
  const { listening, lostSince } = useLive();
  const title = useArrival();
  const isWall = useLocation({ select: (at) => at.pathname === "/" && "wall" in at.search });
  if (isWall)
    return (
      // as large as the screen lets it be: it is read from afar
      <div className="flex h-full flex-col text-[clamp(1.1rem,1.6vw,3rem)] leading-snug">
        <WallHead user={user} />
        {lostSince && <Lost since={lostSince} />}
        <Troubles />
        <main id="work" tabIndex={-1} className="min-h-0 flex-1 outline-none">
          {listening && <Outlet />}
        </main>
      </div>
    );
  return (
    <div className="flex h-full flex-col">
      <a href="#work" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-card focus:p-2">
        Skip to the work
      </a>
      <header className="flex h-[46px] shrink-0 items-center gap-5 border-ink border-b bg-paper px-5 max-lg:gap-3 max-md:h-auto max-md:flex-wrap max-md:gap-x-3 max-md:px-3 max-md:pt-1.5">
        <Link to="/" className="flex items-center gap-2">
          <Flag />
          <span className="font-bold font-display text-[1.2rem]">Brisk Herald</span>
        </Link>
        <nav
          aria-label="Rooms"
          className="flex h-full items-stretch gap-1 max-md:order-last max-md:h-9 max-md:w-full max-md:overflow-x-auto"
        >
          {ROOMS.map((room) => (
            <Link
              key={room.to}
              to={room.to}
              activeOptions={{ exact: room.to === "/" }}
              className="flex items-center border-transparent border-y-[3px] px-2 text-soft hover:text-ink max-md:px-1"
              activeProps={{ className: "border-b-saffron! text-ink! font-semibold", "aria-current": "page" }}
            >
              {room.word}
            </Link>
          ))}
        </nav>
        <button
          type="button"
          onClick={find}
          className="field ml-auto flex w-52 items-center justify-between gap-2 whitespace-nowrap text-soft max-lg:w-32 max-md:w-auto"
        >
          Find or do… <kbd className="rounded-sm border border-rule px-1 font-mono text-xs max-lg:hidden">Ctrl K</kbd>
        </button>
        {user.limits !== null && <Limits words={user.limits} />}
        <Clocks />
        <Bell />
        <Account user={user} />
      </header>
      {lostSince && <Lost since={lostSince} />}
      <StandsIn user={user} />
      <Troubles />
      <main id="work" tabIndex={-1} className="min-h-0 flex-1 outline-none">
        {listening && <Outlet />}
      </main>
      <p role="status" className="sr-only">
        {title}
      </p>
      <AgreementDialog />
      <Keys onFind={find} />
      <Palette open={finding} onClose={() => setFinding(false)} />
    </div>
  );
}

function Lost({ since }: { since: Date }) {
  return (
    <p role="status" className="bg-wash px-5 py-1">
      The connection is lost since {DateTime.fromJSDate(since).toFormat("HH:mm:ss")}; figures may be old. It reconnects
      by itself.
    </p>
  );
}

/** Above Now on the screen of a wall: what it is, and the time, by which one sees that it still goes. */
function WallHead({ user }: { user: Schemas["Me"] }) {
  const { now, zone } = useClock();
  return (
    <header className="flex shrink-0 items-center gap-3 border-ink border-b bg-paper px-[1.1em] py-[0.3em]">
      <Flag />
      <span className="font-bold font-display text-[1.1em]">Brisk Herald</span>
      {user.limits !== null && <Limits words={user.limits} />}
      <span className="ml-auto text-[1.2em]">
        <strong>{DateTime.fromJSDate(now, { zone }).toFormat("ccc d LLL HH:mm")}</strong>{" "}
        <span className="text-soft">{city(zone)}</span>
      </span>
    </header>
  );
}

function Flag() {
  return (
    <svg width="19" height="20" viewBox="0 0 20 20" aria-hidden="true">
      <path d="M3 2.5v15" stroke="var(--ink)" strokeWidth="1.8" strokeLinecap="round" />
      <path d="M4.5 3.5h12l-3.2 4 3.2 4h-12z" fill="var(--saffron)" />
    </svg>
  );
}

/** That all that is shown is only a part of the fleet: whoever sees it must not take it for the whole. */
function Limits({ words }: { words: string }) {
  return (
    <p
      className="max-w-44 truncate rounded-sm border border-ink border-dashed px-2 text-xs leading-5"
      title={`You see only what belongs to ${words}. Counts, lists and rules leave out the rest of the fleet.`}
    >
      <span className="sr-only">You see </span>only {words.replace(/^the /, "")}
    </p>
  );
}

function Clocks() {
  const { now, zone, speed } = useClock();
  const here = DateTime.fromJSDate(now, { zone });
  return (
    <div
      className="whitespace-nowrap text-right text-soft text-xs leading-tight max-md:hidden"
      title={`Your clock, ${zone}, and UTC`}
    >
      <div>
        <strong className="text-ink">{here.toFormat("ccc d LLL HH:mm")}</strong> {city(zone)}
      </div>
      <div>
        {here.toUTC().toFormat("HH:mm")} UTC{speed !== 1 && `, demo time ×${speed}`}
      </div>
    </div>
  );
}

function Account({ user }: { user: Schemas["Me"] }) {
  const navigate = useNavigate();
  const leave = useSignOut();
  const item = "cursor-pointer rounded-sm px-2 py-1.5 outline-none data-[highlighted]:bg-wash";
  const initials = user.name
    .split(/\W+/)
    .map((w) => w[0])
    .join("")
    .slice(0, 2);
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`${initials}: account of ${user.name}`}
        className="grid h-7 w-7 place-items-center rounded-full border border-ink font-semibold text-xs"
      >
        {initials}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-50 min-w-52 rounded-md border border-rule bg-card p-1.5 shadow-xl"
        >
          <DropdownMenu.Label className="px-2 py-1 text-soft">
            {user.name}, {user.role}
            <br />
            {user.email}
            {user.limits !== null && (
              <>
                <br />
                sees only {user.limits}
              </>
            )}
          </DropdownMenu.Label>
          <DropdownMenu.Item className={item} onSelect={() => navigate({ to: "/account" })}>
            Your account
          </DropdownMenu.Item>
          {user.limits === null && (
            <DropdownMenu.Item className={item} onSelect={() => navigate({ to: "/people" })}>
              People
            </DropdownMenu.Item>
          )}
          <DropdownMenu.Item className={item} onSelect={() => setTheme(nextTheme())}>
            Light or dark
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => window.open("/api/v1/docs")}>
            API
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => leave.mutate()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
