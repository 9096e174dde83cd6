/** Enrolment: the codes that new devices show, and those that wait to be admitted. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { valuesAmong } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { wordsIn } from "@/lib/words";
import { Button, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { ShownOnce } from "@/parts/shown-once";
import { Inline } from "@/parts/views";
import { codes as codesQuery } from "./queries";
import { Removal, Shelf } from "./shelf-table";

export function Enrolment() {
  const asked = useQuery(codesQuery);
  const admissions = useQuery(valuesAmong("admission", {}));
  const [making, setMaking] = useState(false);
  const may = useMay("administer");
  return (
    <>
      <div className="mb-2 flex items-baseline gap-3">
        <p className="text-soft">
          <Inline of={admissions}>
            {(all) => <Waiting devices={all.find((v) => v.value === "waiting")?.count ?? 0} />}
          </Inline>
        </p>
        {!may && <span className="ml-auto text-soft">An administrator makes and revokes codes.</span>}
        <Button className={may ? "ml-auto" : ""} disabled={!may} onClick={() => setMaking(true)}>
          Make a code
        </Button>
      </div>
      <Shelf
        of={asked}
        what="The enrolment codes"
        heads={["Code", "What it does", "Sets", "Uses left", "Until"]}
        empty={
          <Empty title="No enrolment code">
            A code lets devices enrol by themselves; devices that are known need none.
          </Empty>
        }
      >
        {(code) => <Row key={code.id} code={code} />}
      </Shelf>
      {making && <Form onClose={() => setMaking(false)} />}
    </>
  );
}

function Waiting({ devices }: { devices: number }) {
  if (devices === 0) return <>No device waits to be admitted.</>;
  return (
    <>
      <strong className="text-saffron-ink">{counted(devices, "device waits", "devices wait")}</strong> to be admitted:{" "}
      <Link to="/fleet" search={{ rule: "admission = waiting" }} className="slot">
        look, admit or retire
      </Link>
    </>
  );
}

function Row({ code }: { code: Schemas["CodeRow"] }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const may = useMay("administer");
  const revoke = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/enrolment-codes/{code_id}", { params: { path: { code_id: code.id } } })),
    onSuccess: () => changed(client, "codes"),
  });
  const sets = [
    ...code.tags.map((t) => `tag ${t}`),
    ...Object.entries(code.attributes as Record<string, unknown>).map(([k, v]) => `${k} ${v}`),
    code.site && `site ${code.site}`,
    code.custodian && `custodian ${code.custodian}`,
  ].filter(Boolean);
  return (
    <tr className="border-rule border-t align-top">
      <td className="px-3 py-1.5 font-semibold">{code.label}</td>
      <td className="px-3 py-1.5">
        {code.admit ? "admits at once" : "lets devices wait for a person"}
        {code.known_only && ", only devices imported beforehand"}
      </td>
      <td className="px-3 py-1.5">{sets.join(", ") || <span className="text-soft">nothing</span>}</td>
      <td className="px-3 py-1.5">{code.uses_left === null ? "any number" : count(code.uses_left)}</td>
      <td className="px-3 py-1.5">{code.expires_at ? instant(code.expires_at, zone, now) : "no end"}</td>
      <td className="px-3 py-1 text-right">
        <Removal
          word="Revoke…"
          disabled={!may}
          title={`Revoke “${code.label}”?`}
          action="Revoke the code"
          onConfirm={() => revoke.mutate()}
        >
          No further device can enrol with it. Devices that did keep their secret and their admission.
        </Removal>
        <Problem error={revoke.error} />
      </td>
    </tr>
  );
}

function Form({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [label, setLabel] = useState("");
  const [admit, setAdmit] = useState(false);
  const [known, setKnown] = useState(true);
  const [tags, setTags] = useState("");
  const [site, setSite] = useState("");
  const [uses, setUses] = useState("");
  const { data: sites } = useQuery(valuesAmong("site", {}));
  const make = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/enrolment-codes", {
          body: {
            label,
            admit,
            known_only: known,
            tags: wordsIn(tags),
            site,
            uses: uses ? Number(uses) : null,
          },
        }),
      ),
    onSuccess: () => changed(client, "codes"),
  });
  if (make.data)
    return (
      <ShownOnce title={`The code “${make.data.label}”`} secret={make.data.code} onClose={onClose}>
        Copy it now: it is stored hashed and is not shown again.
      </ShownOnce>
    );
  return (
    <Modal open onClose={onClose} title="Make an enrolment code">
      <form
        className="grid grid-cols-2 gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Labelled label="What it is for">
          <input className="field" value={label} maxLength={80} onChange={(e) => setLabel(e.target.value)} />
        </Labelled>
        <Labelled label="Devices that may use it">
          <input
            className="field"
            inputMode="numeric"
            placeholder="any number"
            value={uses}
            onChange={(e) => setUses(e.target.value.replace(/\D/g, ""))}
          />
        </Labelled>
        <Labelled label="Tags for new devices">
          <input className="field" value={tags} onChange={(e) => setTags(e.target.value)} />
        </Labelled>
        <Labelled label="Site for new devices">
          <select className="field" value={site} onChange={(e) => setSite(e.target.value)}>
            <option value="">none</option>
            {sites?.map((s) => (
              <option key={s.value}>{s.value}</option>
            ))}
          </select>
        </Labelled>
        <label className="col-span-2 flex items-center gap-2">
          <input type="checkbox" checked={known} onChange={(e) => setKnown(e.target.checked)} />
          Only devices that were imported beforehand
        </label>
        <label className="col-span-2 flex items-center gap-2">
          <input type="checkbox" checked={admit} onChange={(e) => setAdmit(e.target.checked)} />
          Admit new devices at once, instead of letting them wait for a person
        </label>
        <div className="col-span-2">
          <Problem error={make.error} />
        </div>
        <div className="col-span-2 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!label.trim() || make.isPending}>
            Make the code
          </Button>
        </div>
      </form>
    </Modal>
  );
}
