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
import { makePasskey, whyNone } from "./passkey-calls";
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
                {invitation.name === null ? (
                  <p className="mb-6 text-soft">
                    {invitation.invited_by ? `${invitation.invited_by} invites you` : "You are invited"} as{" "}
                    <strong className="text-ink">{invitation.role}</strong>: {ROLES[invitation.role]}.
                  </p>
                ) : (
                  <p className="mb-6 text-soft">
                    <strong className="text-ink">{invitation.name}</strong>, this link of{" "}
                    {invitation.invited_by ?? "an administrator"} opens your account anew. The password, codes and
                    passkeys that you had open nothing any more then, and every session of yours ends.
                  </p>
                )}
                <AccountForm secret={secret} email={invitation.email} isAnew={invitation.name !== null} />
              </>
            )}
          </Loaded>
        )}
      </div>
    </main>
  );
}

function AccountForm({ secret, email, isAnew }: { secret: string; email: string; isAnew: boolean }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const canUsePasskey = whyNone() === null;
  const [byPasskey, setByPasskey] = useState(false);
  const path = { params: { path: { secret } } };
  const make = useMutation({
    mutationFn: async () => {
      let passkey = null;
      if (byPasskey) {
        const { options } = await body(api.POST("/api/v1/welcome/{secret}/passkey-options", path));
        passkey = await makePasskey(options);
      }
      return body(
        api.POST("/api/v1/welcome/{secret}", {
          ...path,
          body: { name, password: byPasskey ? "" : password, time_zone: zone, passkey },
        }),
      );
    },
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
      {!isAnew && (
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
      )}
      {canUsePasskey && (
        <fieldset>
          <legend className="mb-1 font-semibold text-soft">You sign in with</legend>
          {[
            { passkey: false, words: "a password" },
            { passkey: true, words: "a passkey: your finger, face or PIN on a device of yours" },
          ].map(({ passkey, words }) => (
            <label key={words} className="flex min-h-[28px] items-center gap-2">
              <input
                type="radio"
                name="way"
                className="accent-[var(--verdigris)]"
                checked={byPasskey === passkey}
                onChange={() => setByPasskey(passkey)}
              />
              {words}
            </label>
          ))}
        </fieldset>
      )}
      {!byPasskey && (
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
      )}
      {!isAnew && (
        <Labelled label="Your clock" hint="Times are shown by it.">
          <ZoneField value={zone} onChange={setZone} />
        </Labelled>
      )}
      <Problem error={make.error} />
      <Button kind="main" type="submit" disabled={make.isPending} className="self-start px-5">
        {isAnew ? "Open my account" : "Make my account"}
      </Button>
    </form>
  );
}
