/** People: who may do what, since when, last seen; administrators invite, change, disable and remove. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { people as peopleQuery, session } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, fullInstant, instant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Confirm, Problem } from "@/parts/controls";
import { Exports } from "@/parts/list-parts";
import { Loaded } from "@/parts/views";
import { Invite, Links } from "./invite";
import { LimitPerson } from "./limits";
import { ROLE_NAMES, ROLES, type Role } from "./roles";
import { StandIn } from "./stand-in";
import { Wanted } from "./wanted";

type Person = Schemas["PersonRow"];

export function People() {
  usePageTitle("People");
  const asked = useQuery(peopleQuery);
  const may = useMay("administer");
  const [inviting, setInviting] = useState(false);
  const [chosen, setChosen] = useState<number[]>([]);
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 className="text-2xl">People</h1>
        <p className="text-soft">
          {may
            ? "Who may do what here, and since when."
            : "Who may do what here. An administrator invites people and gives roles."}
        </p>
        <Exports className="ml-auto" address={(as) => `/api/v1/people/export?format=${as}`} />
        {may && (
          <Button kind="main" onClick={() => setInviting(true)}>
            Invite…
          </Button>
        )}
      </div>
      <Loaded of={asked} what="People" rows={6}>
        {(all) => (
          <>
            <Wanted all={all} />
            <StandIn people={all.people} />
            {may && <Chosen people={all.people.filter((p) => chosen.includes(p.id))} onDone={() => setChosen([])} />}
            <PeopleTable people={all.people} chosen={chosen} onChoose={setChosen} />
            {all.invitations.length > 0 && <Invitations invitations={all.invitations} />}
          </>
        )}
      </Loaded>
      {inviting && <Invite onClose={() => setInviting(false)} />}
    </div>
  );
}

function PeopleTable({
  people,
  chosen,
  onChoose,
}: {
  people: Person[];
  chosen: number[];
  onChoose: (ids: number[]) => void;
}) {
  const may = useMay("administer");
  const { data } = useQuery(session);
  return (
    <table className="w-full rounded-md border border-rule bg-card" aria-label="Accounts">
      <thead className="text-left text-soft">
        <tr>
          {may && (
            <th className="w-8">
              <span className="sr-only">chosen</span>
            </th>
          )}
          {["Person", "Role", "Sees", "Member since", "Last seen", "Signed in", "Tokens"].map((h) => (
            <th key={h} className="px-3 py-1.5 font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {people.map((p) => (
          <Row
            key={p.id}
            person={p}
            isMe={p.id === data?.user?.id}
            isChosen={chosen.includes(p.id)}
            onChoose={(yes) => onChoose(yes ? [...chosen, p.id] : chosen.filter((id) => id !== p.id))}
          />
        ))}
      </tbody>
    </table>
  );
}

function Row({
  person: p,
  isMe,
  isChosen,
  onChoose,
}: {
  person: Person;
  isMe: boolean;
  isChosen: boolean;
  onChoose: (yes: boolean) => void;
}) {
  const { now, zone } = useClock();
  const may = useMay("administer");
  return (
    <tr className="border-rule border-t">
      {may && (
        <td className="pl-3">
          {!isMe && (
            <input
              type="checkbox"
              className="accent-[var(--verdigris)]"
              aria-label={`Choose ${p.name}`}
              checked={isChosen}
              onChange={(e) => onChoose(e.target.checked)}
            />
          )}
        </td>
      )}
      <td className="px-3 py-1.5">
        <strong className={p.is_active ? "" : "text-soft"}>{p.name}</strong>
        {isMe && <span className="text-soft"> (you)</span>}
        {!p.is_active && <span className="ml-2 text-brick">disabled</span>}
        <br />
        <span className="text-soft">{p.email}</span>
      </td>
      <td className="px-3 py-1.5">
        {may && !isMe ? <RoleField person={p} /> : p.role}
        <br />
        <span className="text-soft text-xs">{ROLES[p.role]}</span>
      </td>
      <td className="px-3 py-1.5">
        <Sees person={p} />
      </td>
      <td className="px-3 py-1.5">{p.joined_at ? instant(p.joined_at, zone, now) : "the beginning"}</td>
      <td className="px-3 py-1.5" title={p.seen_at ? fullInstant(p.seen_at, zone) : undefined}>
        {p.seen_at ? relative(p.seen_at, now) : "never"}
      </td>
      <td className="px-3 py-1.5">
        {p.sessions || "nowhere"}
        {p.passkeys > 0 && (
          <>
            <br />
            <span className="text-soft text-xs">{counted(p.passkeys, "passkey")}</span>
          </>
        )}
        {p.has_second_factor && (
          <>
            <br />
            <SecondFactorOf person={p} isMe={isMe} />
          </>
        )}
      </td>
      <td className="px-3 py-1.5">{p.tokens || "none"}</td>
    </tr>
  );
}

/** That somebody signs in with a code, too; administrators take it off whoever has lost the app and all codes. */
function SecondFactorOf({ person: p, isMe }: { person: Person; isMe: boolean }) {
  const client = useQueryClient();
  const may = useMay("administer");
  const reset = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/people/{user_id}/second-factor/reset", { params: { path: { user_id: p.id } } })),
    onSuccess: (all) => {
      client.setQueryData(peopleQuery.queryKey, all);
      toast(`${p.name} signs in by the password alone, and can set up another app.`);
    },
  });
  if (!may || isMe) return <span className="text-soft text-xs">second factor</span>;
  return (
    <>
      <Confirm
        trigger={
          <button type="button" className="slot text-xs" aria-label={`Second factor of ${p.name}: take it off`}>
            second factor
          </button>
        }
        title={`Take the second factor off ${p.name}?`}
        action="Take it off"
        danger
        onConfirm={() => reset.mutate()}
      >
        For whoever has lost the app and all recovery codes. Make sure that it is {p.name} who asks: from then on the
        password alone opens this account, until they set up another app.
      </Confirm>
      <Problem error={reset.error} />
    </>
  );
}

/** What a person sees; administrators change it, of all but administrators. */
function Sees({ person: p }: { person: Person }) {
  const may = useMay("administer");
  const [open, setOpen] = useState(false);
  const words = p.limits ? `only ${p.limits.words}` : "everything";
  if (!may || p.role === "administrator") return words;
  return (
    <>
      <button
        type="button"
        className="slot text-left"
        aria-label={`${p.name} sees ${words}: change`}
        onClick={() => setOpen(true)}
      >
        {words}
      </button>
      {open && <LimitPerson person={p} onClose={() => setOpen(false)} />}
    </>
  );
}

function RoleField({ person: p }: { person: Person }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (role: Role) =>
      body(api.PATCH("/api/v1/people/{user_id}", { params: { path: { user_id: p.id } }, body: { role } })),
    onSuccess: (all, role) => {
      client.setQueryData(peopleQuery.queryKey, all);
      toast(`${p.name} is ${role} from now on.`);
    },
  });
  return (
    <>
      <select
        className="field"
        aria-label={`Role of ${p.name}`}
        value={change.isPending ? change.variables : p.role}
        disabled={change.isPending}
        onChange={(e) => change.mutate(e.target.value as Role)}
      >
        {ROLE_NAMES.map((role) => (
          <option key={role}>{role}</option>
        ))}
      </select>
      <Problem error={change.error} />
    </>
  );
}

type Act = "disable" | "enable" | "remove";
const PATHS = {
  disable: "/api/v1/people/disable",
  enable: "/api/v1/people/enable",
  remove: "/api/v1/people/remove",
} as const;
const DONE = { disable: "disabled", enable: "enabled", remove: "removed" };

/** What can be done with the people that are ticked; always of one height, so that no row moves as one is. */
function Chosen({ people, onDone }: { people: Person[]; onDone: () => void }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (what: Act) => body(api.POST(PATHS[what], { body: { people: people.map((p) => p.id) } })),
    onSuccess: (all, what) => {
      client.setQueryData(peopleQuery.queryKey, all);
      toast(`${counted(people.length, "account is", "accounts are")} ${DONE[what]}.`);
      onDone();
    },
  });
  const active = people.filter((p) => p.is_active);
  const sessions = people.reduce((n, p) => n + p.sessions, 0);
  const tokens = people.reduce((n, p) => n + p.tokens, 0);
  const names = people.map((p) => p.name).join(", ");
  return (
    <div className="mb-2 min-h-[30px]">
      <div className="flex flex-wrap items-center gap-2">
        {people.length === 0 ? (
          <span className="text-soft">Tick people to disable or remove them.</span>
        ) : (
          <>
            <span>{counted(people.length, "person is", "people are")} chosen.</span>
            {active.length > 0 && (
              <Confirm
                trigger={<Button disabled={act.isPending}>Disable…</Button>}
                title={`Disable ${counted(active.length, "account")}?`}
                action="Disable"
                onConfirm={() => act.mutate("disable")}
              >
                {names} cannot sign in until somebody enables them again.{" "}
                {counted(sessions, "session ends", "sessions end")} now, {counted(tokens, "token opens", "tokens open")}{" "}
                nothing meanwhile, and what they look after is looked after by nobody. Rollouts and commands that they
                started go on.
              </Confirm>
            )}
            {active.length < people.length && (
              <Button disabled={act.isPending} onClick={() => act.mutate("enable")}>
                Enable
              </Button>
            )}
            {people.length === 1 && people[0]?.is_active && <NewLink person={people[0]} />}
            <Confirm
              trigger={
                <Button kind="danger" disabled={act.isPending}>
                  Remove…
                </Button>
              }
              title={`Remove ${counted(people.length, "account")} for good?`}
              action="Remove for good"
              danger
              onConfirm={() => act.mutate("remove")}
            >
              {names}: {counted(sessions, "session")} and {counted(tokens, "token")} end now. What they did stays on
              record, by “Removed person” and a number. It cannot be undone; the address can be invited anew.
            </Confirm>
          </>
        )}
      </div>
      <Problem error={act.error} />
    </div>
  );
}

/** A link for whoever has lost what they sign in with. */
function NewLink({ person: p }: { person: Person }) {
  const client = useQueryClient();
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/people/{user_id}/new-link", { params: { path: { user_id: p.id } } })),
    onSuccess: () => changed(client, "people"),
  });
  return (
    <>
      <Confirm
        trigger={<Button disabled={make.isPending}>New link…</Button>}
        title={`Make a link by which ${p.name} opens the account anew?`}
        action="Make the link"
        onConfirm={() => make.mutate()}
      >
        For whoever has lost their password, codes or passkeys. Make sure that it is {p.name} who asks. What they have
        goes on until the link is used; then it opens nothing any more, and{" "}
        {counted(p.sessions, "session ends", "sessions end")}. Their tokens stay.
      </Confirm>
      <Problem error={make.error} />
      {make.data && <Links made={[make.data]} onClose={() => make.reset()} />}
    </>
  );
}

function Invitations({ invitations }: { invitations: Schemas["InvitationRow"][] }) {
  const { now, zone } = useClock();
  const may = useMay("administer");
  const client = useQueryClient();
  const revoke = useMutation({
    mutationFn: (id: number) =>
      body(api.DELETE("/api/v1/people/invitations/{invitation_id}", { params: { path: { invitation_id: id } } })),
    onSuccess: () => changed(client, "people"),
  });
  return (
    <section aria-labelledby="invited" className="mt-5">
      <h2 id="invited" className="mb-1 text-[1.05rem]">
        Links that are not used yet
      </h2>
      <Problem error={revoke.error} />
      <ul className="rounded-md border border-rule bg-card">
        {invitations.map((i) => (
          <li key={i.id} className="flex flex-wrap items-center gap-x-4 border-rule border-b px-3 py-1.5 last:border-0">
            <strong>{i.email}</strong>
            <span>
              {i.person === null ? "an account as " : "their account anew, "}
              {i.role}
              {i.is_limited && ", limited"}
            </span>
            <span className="text-soft">
              by {i.invited_by ?? "a script"}, {instant(i.made_at, zone, now)}; the link holds until{" "}
              {instant(i.expires_at, zone, now)}
            </span>
            {may && (
              <Button
                kind="quiet"
                className="ml-auto text-brick!"
                disabled={revoke.isPending}
                onClick={() => revoke.mutate(i.id)}
              >
                Take back
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
