/** Keys that work everywhere: g then a letter goes to a room, ? shows them all. */
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { Modal } from "@/parts/controls";
import { ROOMS } from "./rooms";

/** where letters are typed or chosen; a radio button or a box to tick takes none */
const TYPING = "input:not([type=radio], [type=checkbox]), textarea, select, [contenteditable=true], [role=combobox]";
const CHORD_MS = 1200;

export function Keys({ onFind }: { onFind: () => void }) {
  const navigate = useNavigate();
  const [help, setHelp] = useState(false);
  useEffect(() => {
    let chord = 0;
    const press = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        onFind();
        return;
      }
      const target = event.target as Element | null;
      if (event.ctrlKey || event.metaKey || event.altKey || target?.closest?.(TYPING)) return;
      if (event.key === "?") setHelp(true);
      if (event.key === "g" && Date.now() - chord > CHORD_MS) {
        chord = Date.now();
        return;
      }
      const room = ROOMS.find((r) => r.letter === event.key);
      if (room && Date.now() - chord < CHORD_MS) {
        chord = 0;
        navigate({ to: room.to });
      }
    };
    document.addEventListener("keydown", press);
    return () => document.removeEventListener("keydown", press);
  }, [navigate, onFind]);
  const rows: [string, string][] = [
    ["Ctrl K", "find or do anything"],
    ...ROOMS.map((r): [string, string] => [`g ${r.letter}`, `go to ${r.word}`]),
    ["j  k", "down and up in a list"],
    ["Enter", "open"],
    ["Esc", "close"],
  ];
  return (
    <Modal open={help} onClose={() => setHelp(false)} title="Keys that work here">
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1.5">
        {rows.map(([keys, what]) => (
          <div key={keys} className="contents">
            <dt className="font-mono">{keys}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
    </Modal>
  );
}
