/** A secret that is shown this once, to be copied. */
import type { ReactNode } from "react";
import { Button, Modal } from "./controls";

export function ShownOnce({
  title,
  secret,
  onClose,
  children,
}: {
  title: string;
  secret: string;
  onClose: () => void;
  /** what is to be done with it, and why now */
  children: ReactNode;
}) {
  return (
    <Modal open onClose={onClose} title={title}>
      <p>{children}</p>
      <p className="my-3 select-all break-all rounded-sm bg-side p-3 text-center font-mono text-lg">{secret}</p>
      <div className="flex justify-end">
        <Button kind="main" onClick={onClose}>
          I have it
        </Button>
      </div>
    </Modal>
  );
}
