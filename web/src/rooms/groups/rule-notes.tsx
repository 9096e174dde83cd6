/** What may be wrong with a rule: words nearly like its own, words nobody has, devices without a value. */
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { counted } from "@/lib/format";

export function RuleNotes({ notes }: { notes: Schemas["SieveNote"][] }) {
  if (!notes.length) return null;
  return (
    <section>
      <h2 className="mb-1 text-[1.05rem]">Worth a look</h2>
      <ul className="space-y-1.5">
        {notes.slice(0, 8).map((note) => (
          <li key={note.kind + note.rule}>
            <NoteText note={note} />{" "}
            {note.count > 0 && (
              <Link to="/fleet" search={{ rule: note.rule }} className="slot">
                List
              </Link>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function NoteText({ note }: { note: Schemas["SieveNote"] }) {
  const word = (text: string) => <code className="rounded-sm bg-rule/60 px-1 font-mono text-xs">{text}</code>;
  if (note.kind === "near")
    return (
      <>
        <strong>{counted(note.count, "device has", "devices have")}</strong> {note.field} {word(note.word)}, not{" "}
        {word(note.instead_of)}.
      </>
    );
  if (note.kind === "absent")
    return (
      <>
        <strong>No device</strong> has {note.field} {word(note.word)}.
      </>
    );
  return (
    <>
      <strong>{counted(note.count, "device has", "devices have")}</strong> no {note.field}; a comparison leaves them
      out.
    </>
  );
}
