/** The page that an invitation's link opens: making an account. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { session } from "@/api/queries";
import { usePageTitle } from "@/lib/title";
import { Button, Labelled, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { ZoneField } from "@/parts/zone-field";
import { welcome as welcomeQuery } from "./queries";
import { ROLES } from "./roles";

const route = getRouteApi("/welcome/$secret");

export function Welcome() {
  usePageTitle("Welcome");
  const { secret } = route.useParams();
  const asked = useQuery(welcomeQuery(secret));
  const isOver = asked.error instanceof ApiError && asked.error.status === 404;
  return (
    <main className="grid h-full place-items-center overflow-auto p-6">
      <div className="w-96 max-w-full">
        <h1 className="mb-1 text-3xl">Brisk Herald</h1>
        {isOver ? (
          <>
            <p role="alert" className="my-4">
              {asked.error?.message}
            </p>
            <Link to="/" className="slot">
              Sign in with an account that you have
            </Link>
          </>
        ) : (
          <Loaded of={asked} what="The invitation" rows={4}>
            {(invitation) => (
              <>
                <p className="mb-6 text-soft">
                  {invitation.invited_by ? `${invitation.invited_by} invites you` : "You are invited"} as{" "}
                  <strong className="text-ink">{invitation.role}</strong>: {ROLES[invitation.role]}.
                </p>
                <AccountForm secret={secret} email={invitation.email} />
              </>
            )}
          </Loaded>
        )}
      </div>
    </main>
  );
}

function AccountForm({ secret, email }: { secret: string; email: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const make = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/welcome/{secret}", {
          params: { path: { secret } },
          body: { name, password, time_zone: zone },
        }),
      ),
    onSuccess: (state) => {
      client.setQueryData(session.queryKey, state);
      navigate({ to: "/" });
    },
  });
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate();
      }}
    >
      <Labelled label="E-mail address">
        <input className="field" value={email} readOnly autoComplete="username" />
      </Labelled>
      <Labelled label="Your name" hint="As the record and your colleagues see it.">
        <input
          className="field"
          required
          maxLength={100}
          autoComplete="name"
          // biome-ignore lint/a11y/noAutofocus: the first thing to do here
          autoFocus
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      </Labelled>
      <Labelled label="Password" hint="Ten characters or more; several unrelated words do well.">
        <input
          className="field"
          type="password"
          required
          autoComplete="new-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
      </Labelled>
      <Labelled label="Your clock" hint="Times are shown by it.">
        <ZoneField value={zone} onChange={setZone} />
      </Labelled>
      <Problem error={make.error} />
      <Button kind="main" type="submit" disabled={make.isPending} className="self-start px-5">
        Make my account
      </Button>
    </form>
  );
}
