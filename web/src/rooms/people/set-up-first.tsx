/** For whoever signed in by a password alone where more is wanted: setting up a passkey or an app, and nothing else. */
import type { Schemas } from "@/api/client";
import { usePageTitle } from "@/lib/title";
import { Button, Card, Problem } from "@/parts/controls";
import { Passkeys } from "./passkeys";
import { SecondFactor } from "./second-factor";
import { useSignOut } from "./use-sign-out";

export function SetUpFirst({ user }: { user: Schemas["Me"] }) {
  usePageTitle("Set up a second factor");
  const leave = useSignOut();
  return (
    <main className="grid h-full place-items-center overflow-auto p-6">
      <div className="flex w-[34rem] max-w-full flex-col gap-4">
        <div>
          <h1 className="mb-1 text-2xl">One thing first, {user.name}</h1>
          <p>
            A password alone is not enough for {user.role}s here. Set up one of these; then everything opens. If you
            cannot, ask an administrator.
          </p>
        </div>
        <Card title="Passkeys">
          <Passkeys />
        </Card>
        <Card title="Or an app that makes codes">
          <SecondFactor />
        </Card>
        <div>
          <Button disabled={leave.isPending} onClick={() => leave.mutate()}>
            Sign out
          </Button>
          <Problem error={leave.error} />
        </div>
      </div>
    </main>
  );
}
