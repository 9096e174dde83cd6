/** One's own account: name and clock, password, where one is signed in, tokens for scripts, light or dark. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { counted, instant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Card, Labelled, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { ZoneField } from "@/parts/zone-field";
import { browserOf } from "./browser-of";
import { Passkeys, proofBy } from "./passkeys";
import { ownPasskeys, ownSessions } from "./queries";
import { SecondFactor } from "./second-factor";
import { Tokens } from "./tokens";
import { Wishes } from "./wishes";

export function Account() {
  usePageTitle("Your account");
  const { data } = useQuery(session);
  if (!data?.user) return null;
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-2xl">Your account</h1>
        <p className="text-soft">
          {data.user.email}, {data.user.role}
        </p>
      </div>
      <div className="grid grid-cols-2 items-start gap-4 max-lg:grid-cols-1">
        <div className="flex flex-col gap-4">
          <Card title="Name and clock">
            <Own user={data.user} />
          </Card>
          <Card title="How you are written to">
            <Wishes />
          </Card>
        </div>
        <div className="flex flex-col gap-4">
          <Card title="Password">
            <Password />
          </Card>
          <Card title="Passkeys">
            <Passkeys />
          </Card>
          <Card title="Second factor">
            <SecondFactor />
          </Card>
          <Card title="Where you are signed in">
            <Sessions />
          </Card>
          <Card title="Tokens for scripts">
            <Tokens />
          </Card>
        </div>
      </div>
    </div>
  );
}

function Form({ onSubmit, children }: { onSubmit: () => void; children: ReactNode }) {
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onSubmit();
      }}
    >
      {children}
    </form>
  );
}

function Own({ user }: { user: Schemas["Me"] }) {
  const client = useQueryClient();
  const [name, setName] = useState(user.name);
  const [zone, setZone] = useState(user.time_zone);
  const save = useMutation({
    mutationFn: () => body(api.PUT("/api/v1/own", { body: { name, time_zone: zone } })),
    onSuccess: (me) => {
      client.setQueryData(session.queryKey, (was) => was && { ...was, user: me });
      toast("Your name and clock are saved.");
    },
  });
  const isSame = name === user.name && zone === user.time_zone;
  return (
    <Form onSubmit={() => save.mutate()}>
      <Labelled label="Name" hint="As the record and your colleagues see it.">
        <input className="field" required maxLength={100} value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <Labelled label="Clock" hint="Times are shown by it, wherever they are not a device's own.">
        <ZoneField value={zone} onChange={setZone} />
      </Labelled>
      <Problem error={save.error} />
      <Button type="submit" className="self-start" disabled={isSame || save.isPending}>
        Save
      </Button>
    </Form>
  );
}

function Password() {
  const asked = useQuery(ownPasskeys);
  return (
    <Loaded of={asked} what="Whether you have a password" rows={3}>
      {({ has_password }) => <PasswordForm hasPassword={has_password} />}
    </Loaded>
  );
}

function PasswordForm({ hasPassword }: { hasPassword: boolean }) {
  const client = useQueryClient();
  const [current, setCurrent] = useState("");
  const [next, setNext] = useState("");
  const save = useMutation({
    mutationFn: async () => {
      const { assertion } = await proofBy(current, hasPassword);
      return body(api.POST("/api/v1/own/password", { body: { current, assertion, new: next } }));
    },
    onSuccess: ({ ended }) => {
      setCurrent("");
      setNext("");
      client.invalidateQueries({ queryKey: session.queryKey });
      client.invalidateQueries({ queryKey: ownPasskeys.queryKey });
      toast(`Your password is ${hasPassword ? "changed" : "set"}; ${counted(ended, "other session")} ended.`);
    },
  });
  return (
    <Form onSubmit={() => save.mutate()}>
      {hasPassword ? (
        <Labelled label="Current password">
          <input
            className="field"
            type="password"
            required
            autoComplete="current-password"
            value={current}
            onChange={(e) => setCurrent(e.target.value)}
          />
        </Labelled>
      ) : (
        <p className="text-soft">You have none: a passkey signs you in. To set one, your browser asks you for that.</p>
      )}
      <Labelled label="New password" hint="Ten characters or more. Every other session of yours ends.">
        <input
          className="field"
          type="password"
          required
          autoComplete="new-password"
          value={next}
          onChange={(e) => setNext(e.target.value)}
        />
      </Labelled>
      <Problem error={save.error} />
      <Button type="submit" className="self-start" disabled={(hasPassword && !current) || !next || save.isPending}>
        {hasPassword ? "Change the password" : "Set a password"}
      </Button>
    </Form>
  );
}

function Sessions() {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const asked = useQuery(ownSessions);
  const again = () => client.invalidateQueries({ queryKey: ownSessions.queryKey });
  const end = useMutation({
    mutationFn: (id: number) =>
      body(api.DELETE("/api/v1/own/sessions/{session_id}", { params: { path: { session_id: id } } })),
    onSettled: again,
  });
  const endOthers = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/sessions/end-others")),
    onSuccess: ({ ended }) => toast(`${counted(ended, "session")} ended.`),
    onSettled: again,
  });
  return (
    <Loaded of={asked} what="Your sessions" rows={3}>
      {(rows) => (
        <>
          <ul>
            {rows.map((s) => (
              <li key={s.id} className="flex items-center gap-3 border-rule border-b py-1.5 last:border-0">
                <span className="min-w-0 flex-1">
                  <strong title={s.agent}>{browserOf(s.agent)}</strong>
                  {s.is_this && <span className="text-verdigris"> here and now</span>}
                  <br />
                  <span className="text-soft">
                    from {s.address}, since {instant(s.began_at, zone, now)}
                    {!s.is_this && `, last seen ${relative(s.seen_at, now)}`}
                  </span>
                </span>
                {!s.is_this && (
                  <Button disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                    Sign out there
                  </Button>
                )}
              </li>
            ))}
          </ul>
          {rows.filter((s) => !s.is_this).length > 1 && (
            <Button className="mt-2" disabled={endOthers.isPending} onClick={() => endOthers.mutate()}>
              Sign out everywhere else
            </Button>
          )}
          <Problem error={end.error ?? endOthers.error} />
        </>
      )}
    </Loaded>
  );
}
