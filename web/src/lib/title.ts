/** The title of the current page: in the tab, and read out after a navigation. */
import { useEffect } from "react";

const NAME = "Brisk Herald";
const listeners = new Set<(title: string) => void>();

/** Name the page while it is shown; nothing is named while the name is not known yet. */
export function usePageTitle(title: string | undefined): void {
  useEffect(() => {
    if (title === undefined) return;
    document.title = `${title} · ${NAME}`;
    for (const listener of listeners) listener(title);
  }, [title]);
}

/** Hear each new title; the answer stops it. */
export function onTitle(listener: (title: string) => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}
