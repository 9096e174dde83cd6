/** The one panel that shows what a change sets off, and takes the agreement to its numbers. */
import { AlertDialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { answersWith, type Consequences } from "@/api/agreement";
import { count } from "@/lib/format";
import { ConsequenceList } from "@/parts/consequence-list";
import { Button } from "@/parts/controls";

export function AgreementDialog() {
  const [shown, setShown] = useState<Consequences | null>(null);
  const answer = useRef<(agreed: boolean) => void>(() => {});
  useEffect(() => {
    answersWith((consequences) => {
      answer.current(false); // one question at a time: an earlier one counts as not agreed to
      setShown(consequences);
      return new Promise((resolve) => {
        answer.current = resolve;
      });
    });
    return () => answersWith(null);
  }, []);
  const close = (agreed: boolean) => {
    setShown(null);
    answer.current(agreed);
    answer.current = () => {};
  };
  return (
    <AlertDialog.Root open={shown !== null} onOpenChange={(open) => !open && close(false)}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/30 dark:bg-black/50" />
        <AlertDialog.Content className="fixed top-[14%] left-1/2 z-50 max-h-[72vh] w-[36rem] max-w-[92vw] -translate-x-1/2 overflow-auto rounded-md border border-rule bg-card p-5 shadow-xl">
          <AlertDialog.Title className="text-lg">This changes which devices are reached</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2">{shown && <ConsequenceList consequences={shown} />}</div>
          </AlertDialog.Description>
          <div className="mt-5 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button kind="main" onClick={() => close(true)}>
                {shown ? agreeWords(shown) : "Agree"}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** "Agree: 2 join, 1 leaves": the largest numbers among what is reached. */
export function agreeWords({ uses }: Consequences): string {
  const joins = Math.max(0, ...uses.map((u) => u.joins));
  const leaves = Math.max(0, ...uses.map((u) => u.leaves));
  const parts = [joins && `${count(joins)} join`, leaves && `${count(leaves)} leave`].filter(Boolean);
  return `Agree: ${parts.join(", ")}`;
}
