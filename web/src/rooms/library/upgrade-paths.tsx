/** The upgrade graph of a model: versions from old to new, the steps that lead on, where the fleet stands. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { models as modelsQuery } from "@/api/queries";
import { count } from "@/lib/format";
import { Loaded } from "@/parts/views";
import { upgradePaths } from "./queries";

const W = 1180;
const H = 150;
const AXIS = 92;

export function UpgradePaths({ models }: { models: string[] }) {
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(models[0] ?? "");
  const known = useQuery({ ...modelsQuery, enabled: open });
  const id = known.data?.find((m) => m.name === chosen)?.id ?? 0;
  const paths = useQuery({ ...upgradePaths(id), enabled: open && id > 0 });
  return (
    <details className="mb-2" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer text-verdigris">Upgrade paths</summary>
      {open && (
        <div className="mt-2 rounded-md border border-rule bg-card p-3">
          {models.length > 1 && (
            <select
              className="field mb-2"
              aria-label="Model"
              value={chosen}
              onChange={(e) => setChosen(e.target.value)}
            >
              {models.map((m) => (
                <option key={m}>{m}</option>
              ))}
            </select>
          )}
          <Loaded
            of={known.error ? { ...paths, error: known.error, refetch: known.refetch } : paths}
            what="The upgrade paths"
            rows={6}
          >
            {(data) => (
              <>
                <Picture paths={data} model={chosen} />
                <Facts paths={data} />
              </>
            )}
          </Loaded>
        </div>
      )}
    </details>
  );
}

function Picture({ paths, model }: { paths: Schemas["UpgradePathsView"]; model: string }) {
  const place = new Map(paths.versions.map((v, i) => [v.version, i]));
  const x = (version: string) => 60 + ((place.get(version) ?? 0) * (W - 120)) / Math.max(1, paths.versions.length - 1);
  const most = Math.max(1, ...paths.versions.map((v) => v.runs));
  const widest = Math.max(1, ...paths.steps.map((s) => s.devices));
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="w-full"
      role="img"
      aria-label={`${model}: ${paths.versions.length} versions, ${paths.steps.length} steps to ${paths.newest || "no newest"}`}
    >
      <line x1="30" x2={W - 30} y1={AXIS} y2={AXIS} stroke="var(--rule)" />
      {paths.steps.map((s) => {
        const [a, b] = [x(s.from_version), x(s.to_version)];
        const top = AXIS - Math.min(84, 18 + (b - a) / 7);
        return (
          <path
            key={`${s.from_version} ${s.to_version}`}
            d={`M ${a} ${AXIS - 12} Q ${(a + b) / 2} ${top * 2 - AXIS + 12} ${b - 4} ${AXIS - 13}`}
            fill="none"
            stroke="var(--verdigris)"
            strokeWidth={1 + (4 * s.devices) / widest}
            opacity="0.55"
          >
            <title>{`${count(s.devices)} would go from ${s.from_version} to ${s.to_version}`}</title>
          </path>
        );
      })}
      {paths.versions.map((v) => (
        <Version
          key={v.version}
          point={v}
          x={x(v.version)}
          radius={3 + 8 * Math.sqrt(v.runs / most)}
          newest={v.version === paths.newest}
        />
      ))}
    </svg>
  );
}

function Version({
  point,
  x,
  radius,
  newest,
}: {
  point: Schemas["VersionPointRow"];
  x: number;
  radius: number;
  newest: boolean;
}) {
  const gone = point.status === "withdrawn";
  const tone =
    gone || point.stranded ? "var(--brick)" : point.status === "approved" ? "var(--verdigris)" : "var(--faint)";
  return (
    <g>
      <circle
        cx={x}
        cy={AXIS}
        r={radius}
        fill={point.runs ? tone : "var(--card)"}
        stroke={tone}
        strokeWidth={newest ? 3 : 1.5}
      />
      {gone && <path d={`M ${x - 6} ${AXIS - 6} l 12 12 m 0 -12 l -12 12`} stroke="var(--brick)" strokeWidth="2" />}
      <text
        x={x}
        y={AXIS + 28}
        textAnchor="middle"
        fontSize="12"
        fontFamily="var(--font-mono)"
        fontWeight={newest ? 700 : 400}
        fill="var(--ink)"
      >
        {point.version}
      </text>
      <text x={x} y={AXIS + 44} textAnchor="middle" fontSize="11" fill="var(--soft)">
        {count(point.runs)} {point.status === "approved" ? "" : point.status || "no image"}
      </text>
    </g>
  );
}

/** The same in words: dead ends, and what withdrawing would cut off. */
function Facts({ paths }: { paths: Schemas["UpgradePathsView"] }) {
  const dead = paths.versions.filter((v) => v.stranded > 0);
  const stones = paths.versions.filter((v) => v.cuts_off > 0);
  return (
    <ul className="mt-1 text-soft">
      <li>
        A disc is as large as its share of the devices; a line is a step that they would take to{" "}
        <strong className="font-mono text-ink">{paths.newest || "the newest"}</strong>.
      </li>
      {dead.map((v) => (
        <li key={v.version} className="text-brick">
          {count(v.stranded)} of {v.version} have no way to the newest.
        </li>
      ))}
      {stones.map((v) => (
        <li key={v.version}>
          Withdrawing <span className="font-mono">{v.version}</span> would cut off {count(v.cuts_off)}.
        </li>
      ))}
    </ul>
  );
}
