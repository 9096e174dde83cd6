/** One's second factor: setting up an app that makes codes, recovery codes shown once, and taking it off. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { PasswordField } from "./password-field";
import { ownPasskeys, ownSecondFactor, ownSessions } from "./queries";

type Open = "set-up" | "codes" | "off" | null;

export function SecondFactor() {
  const { now, zone } = useClock();
  const asked = useQuery(ownSecondFactor);
  const { data: own } = useQuery(ownPasskeys);
  const [open, setOpen] = useState<Open>(null);
  const close = () => setOpen(null);
  return (
    <Loaded of={asked} what="Your second factor" rows={2}>
      {(state) => (
        <>
          {state.since ? (
            <>
              <p>
                On since {instant(state.since, zone, now)}: you sign in with your password and a code of your app.{" "}
                {state.recovery_codes === 0 ? (
                  <strong className="text-brick">No recovery code is left.</strong>
                ) : (
                  `${counted(state.recovery_codes, "recovery code is", "recovery codes are")} left.`
                )}
              </p>
              <div className="mt-2 flex flex-wrap gap-2">
                <Button onClick={() => setOpen("codes")}>New recovery codes…</Button>
                <Button onClick={() => setOpen("off")}>Turn it off…</Button>
              </div>
            </>
          ) : (
            <>
              <p className="text-soft">
                Off{own?.has_password && ": your password alone signs you in"}. With an authenticator app, a code that
                changes every half minute is asked for besides. A passkey needs none.
              </p>
              {own?.has_password && (
                <Button className="mt-2" onClick={() => setOpen("set-up")}>
                  Set it up…
                </Button>
              )}
            </>
          )}
          {open === "set-up" && <SetUp onClose={close} />}
          {open === "codes" && <Renew onClose={close} />}
          {open === "off" && <TakeOff onClose={close} />}
        </>
      )}
    </Loaded>
  );
}

function useAgain() {
  const client = useQueryClient();
  return () => {
    client.invalidateQueries({ queryKey: ownSecondFactor.queryKey });
    client.invalidateQueries({ queryKey: ownSessions.queryKey });
  };
}

/** The password first, as whoever sits here is not always who signed in; then the app; then its first code. */
function SetUp({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const again = useAgain();
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const begin = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/second-factor", { body: { password } })),
  });
  const confirm = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/second-factor/confirm", { body: { code } })),
    onSuccess: again,
  });
  if (confirm.data)
    return (
      <Codes
        codes={confirm.data.codes}
        onClose={() => {
          client.invalidateQueries({ queryKey: session.queryKey }); // it may open what was closed, once these were read
          onClose();
        }}
      />
    );
  const setup = begin.data;
  return (
    <Modal open onClose={onClose} title="Set up a second factor">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (setup) confirm.mutate();
          else begin.mutate();
        }}
      >
        {setup ? (
          <>
            <p>Scan this with an authenticator app, or type its letters there; then type the code that it shows.</p>
            <div className="flex items-center gap-4">
              <img src={setup.picture} alt={`For the app: ${setup.secret}`} className="h-44 w-44 rounded-sm" />
              <p className="min-w-0 select-all break-all font-mono">{setup.secret.match(/.{1,4}/g)?.join(" ")}</p>
            </div>
            <Labelled label="Code" hint="Six digits. It is on once this fits; every other session of yours ends.">
              <input
                className="field w-40"
                required
                autoComplete="one-time-code"
                inputMode="numeric"
                maxLength={12}
                value={code}
                onChange={(e) => setCode(e.target.value)}
              />
            </Labelled>
          </>
        ) : (
          <PasswordField value={password} onChange={setPassword} />
        )}
        <Problem error={setup ? confirm.error : begin.error} />
        <Buttons
          onClose={onClose}
          action={setup ? "Turn it on" : "Continue"}
          isReady={setup ? code !== "" : password !== ""}
          isBusy={begin.isPending || confirm.isPending}
        />
      </form>
    </Modal>
  );
}

function Renew({ onClose }: { onClose: () => void }) {
  const again = useAgain();
  const [password, setPassword] = useState("");
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/second-factor/recovery-codes", { body: { password } })),
    onSuccess: again,
  });
  if (make.data) return <Codes codes={make.data.codes} onClose={onClose} />;
  return (
    <Modal open onClose={onClose} title="New recovery codes">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <p>The codes that you have open nothing any more.</p>
        <PasswordField value={password} onChange={setPassword} />
        <Problem error={make.error} />
        <Buttons onClose={onClose} action="Make new codes" isReady={password !== ""} isBusy={make.isPending} />
      </form>
    </Modal>
  );
}

function TakeOff({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [given, setGiven] = useState<Schemas["TakeOffBodyRequest"]>({ password: "", code: "" });
  const take = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/second-factor/take-off", { body: given })),
    onSuccess: (state) => {
      client.setQueryData(ownSecondFactor.queryKey, state);
      toast("Your second factor is off.");
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title="Turn the second factor off">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate();
        }}
      >
        <p>From then on your password alone signs you in. Your recovery codes go, too.</p>
        <PasswordField value={given.password} onChange={(password) => setGiven({ ...given, password })} />
        <Labelled label="Code" hint="Of your app, or a recovery code.">
          <input
            className="field"
            required
            maxLength={40}
            autoComplete="one-time-code"
            value={given.code}
            onChange={(e) => setGiven({ ...given, code: e.target.value })}
          />
        </Labelled>
        <Problem error={take.error} />
        <Buttons
          onClose={onClose}
          action="Turn it off"
          isReady={given.password !== "" && given.code !== ""}
          isBusy={take.isPending}
        />
      </form>
    </Modal>
  );
}

function Buttons({
  onClose,
  action,
  isReady,
  isBusy,
}: {
  onClose: () => void;
  action: string;
  isReady: boolean;
  isBusy: boolean;
}) {
  return (
    <div className="flex justify-end gap-2">
      <Button onClick={onClose}>Cancel</Button>
      <Button kind="main" type="submit" disabled={!isReady || isBusy}>
        {action}
      </Button>
    </div>
  );
}

/** Recovery codes, shown this once. */
function Codes({ codes, onClose }: { codes: string[]; onClose: () => void }) {
  return (
    <Modal open onClose={onClose} title="Your recovery codes">
      <p>
        Each signs you in once where your app is lost. Print them, or keep them where your password is not; they are not
        shown again.
      </p>
      <ul className="my-3 grid select-all grid-cols-2 gap-x-6 gap-y-1 rounded-sm bg-side p-3 font-mono">
        {codes.map((code) => (
          <li key={code}>{code}</li>
        ))}
      </ul>
      <div className="flex justify-end">
        <Button kind="main" onClick={onClose}>
          I have them
        </Button>
      </div>
    </Modal>
  );
}
