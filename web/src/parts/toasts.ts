/** A message of something done that carries the next press: the way back, or the way there. */
import { toast } from "sonner";

/** Long enough to read the sentence, doubt it and reach for the button; a message without one goes after four. */
const SECONDS = 15;

export function toastWith(says: string, label: string, press: () => void) {
  toast(says, { action: { label, onClick: press }, duration: SECONDS * 1000 });
}
