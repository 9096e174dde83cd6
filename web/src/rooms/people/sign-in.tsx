/** Signing in. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { session } from "@/api/queries";
import { Button, Labelled, Problem } from "@/parts/controls";
import { askPasskey, whyNone } from "./passkey-calls";

const wantsCode = (error: unknown) => error instanceof ApiError && String(error.body.type).endsWith(":second-factor");
const DEMO_EMAIL = "engineer@larkfield.example";

export function SignIn({ demo }: { demo: boolean }) {
  const client = useQueryClient();
  const [email, setEmail] = useState(demo ? DEMO_EMAIL : "");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [asksCode, setAsksCode] = useState(false);
  const enter = useMutation({
    mutationFn: () => body(api.POST("/api/v1/session", { body: { email, password, code } })),
    onSuccess: (state) => client.setQueryData(session.queryKey, state),
    onError: (error) => {
      if (wantsCode(error)) setAsksCode(true);
    },
  });
  const byPasskey = useMutation({
    mutationFn: async () => body(api.POST("/api/v1/session/passkey", { body: { assertion: await askPasskey() } })),
    onSuccess: (state) => client.setQueryData(session.queryKey, state),
  });
  // that a code is wanted is said beside its field; a wrong one is an error
  const problem = asksCode && !code && wantsCode(enter.error) ? null : enter.error;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter.mutate();
  };
  return (
    <main className="grid h-full place-items-center p-6">
      <form onSubmit={submit} className="w-80">
        <h1 className="mb-1 text-3xl">Brisk Herald</h1>
        <p className="mb-6 text-soft">Groups, rings and schedules for devices in the field.</p>
        <div className="flex flex-col gap-4">
          <Labelled label="E-mail address">
            <input
              className="field"
              type="email"
              autoComplete="username"
              required
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </Labelled>
          <Labelled
            label="Password"
            hint={demo ? "The demo's accounts all have the password larkfield-demo." : undefined}
          >
            <input
              className="field"
              type="password"
              autoComplete="current-password"
              required
              // biome-ignore lint/a11y/noAutofocus: the only thing to do here
              autoFocus
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Labelled>
          {asksCode && (
            <Labelled label="Code" hint="Six digits, from your authenticator app; or one of your recovery codes.">
              <input
                className="field"
                autoComplete="one-time-code"
                required
                maxLength={40}
                // biome-ignore lint/a11y/noAutofocus: what is left to do here
                autoFocus
                value={code}
                onChange={(e) => setCode(e.target.value)}
              />
            </Labelled>
          )}
          <Problem error={problem} />
          <Button kind="main" type="submit" disabled={enter.isPending} className="self-start px-5">
            Sign in
          </Button>
          {whyNone() === null && (
            <div className="flex flex-col gap-2 border-rule border-t pt-4">
              <Button
                className="self-start"
                disabled={byPasskey.isPending}
                onClick={() => {
                  enter.reset();
                  byPasskey.mutate();
                }}
              >
                Sign in with a passkey
              </Button>
              <Problem error={byPasskey.error} />
            </div>
          )}
        </div>
      </form>
    </main>
  );
}
