/** Devices that an audience names, besides its groups: found by typing, or pasted, and taken off one by one. */
import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { api, body } from "@/api/client";
import { MOST_NAMED } from "@/api/handed-over";
import { counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button } from "./controls";

const SHOWN = 40;

export function NamedDevices({ devices, onChange }: { devices: string[]; onChange: (devices: string[]) => void }) {
  const [typed, setTyped] = useState("");
  const [all, setAll] = useState(false);
  const list = useId();
  const words = useDebounced(typed.trim(), 250);
  const found = useQuery({
    queryKey: ["fleet", "named", words],
    queryFn: () => body(api.GET("/api/v1/devices", { params: { query: { q: words, limit: 12 } } })),
    enabled: words !== "",
  });
  const add = (text: string) => {
    const names = text.split(/[\n;]+/).flatMap((n) => n.trim() || []);
    if (names.length) onChange([...new Set([...devices, ...names])]);
    setTyped("");
  };
  const shown = all ? devices : devices.slice(0, SHOWN);
  return (
    <fieldset className="mt-4 min-w-0">
      <legend className="mb-1 font-semibold text-soft">
        {devices.length ? `And ${counted(devices.length, "device")} by name` : "And devices by name"}
      </legend>
      {devices.length > 0 && (
        <ul className="mb-2 flex max-h-44 flex-wrap gap-1.5 overflow-auto" aria-label="Devices by name">
          {shown.map((name) => (
            <li key={name} className="flex items-center gap-1 rounded-sm border border-rule bg-side pl-2">
              {name}
              <button
                type="button"
                aria-label={`Remove ${name}`}
                className="min-h-[26px] px-1.5 text-soft hover:text-brick"
                onClick={() => onChange(devices.filter((d) => d !== name))}
              >
                ×
              </button>
            </li>
          ))}
          {devices.length > shown.length && (
            <li>
              <Button kind="quiet" onClick={() => setAll(true)}>
                and {devices.length - shown.length} more
              </Button>
            </li>
          )}
        </ul>
      )}
      <div className="flex items-center gap-2">
        <input
          className="field w-72"
          aria-label="Add a device by name or uid"
          placeholder="name or uid; paste several"
          list={list}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          onKeyDown={(e) => {
            if (e.key !== "Enter") return;
            e.preventDefault();
            add(typed);
          }}
          onPaste={(e) => {
            const text = e.clipboardData.getData("text");
            if (!/[\n;]/.test(text)) return;
            e.preventDefault();
            add(text);
          }}
        />
        <datalist id={list}>
          {found.data?.devices.map((d) => (
            <option key={d.id} value={d.name}>
              {[d.model, d.site].filter(Boolean).join(", ")}
            </option>
          ))}
        </datalist>
        <Button disabled={!typed.trim()} onClick={() => add(typed)}>
          Add
        </Button>
        {devices.length > 0 && (
          <Button kind="quiet" onClick={() => onChange([])}>
            Remove all
          </Button>
        )}
      </div>
      {devices.length > MOST_NAMED && (
        <p className="mt-1 text-brick">At most {MOST_NAMED.toLocaleString("en")} devices are named. Use a group.</p>
      )}
    </fieldset>
  );
}
