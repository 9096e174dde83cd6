/** Images: what they fit, what they need and who runs them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { images as imagesQuery } from "@/api/queries";
import { count, megabytes } from "@/lib/format";
import { Bar, Button, Empty } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { AddFolder } from "./add-folder";
import { AddImage } from "./add-image";
import { ImageActions } from "./image-actions";
import { Cleaned, CleanUp } from "./image-cleanup";
import { UpgradePaths } from "./upgrade-paths";

export function Images() {
  const asked = useQuery(imagesQuery);
  const [open, setOpen] = useState<"image" | "folder" | "clean" | null>(null);
  return (
    <>
      <div className="mb-3 flex items-baseline">
        <p className="text-soft">Firmware images, newest first, with how much of the fleet runs them.</p>
        <div className="ml-auto flex gap-2">
          <Button needs="operate-all" onClick={() => setOpen("clean")}>
            Clean up…
          </Button>
          <Button needs="operate-all" onClick={() => setOpen("folder")}>
            Add a folder…
          </Button>
          <Button needs="operate-all" onClick={() => setOpen("image")}>
            Add an image
          </Button>
        </div>
      </div>
      {open === "image" && <AddImage onClose={() => setOpen(null)} />}
      {open === "folder" && <AddFolder onClose={() => setOpen(null)} />}
      {open === "clean" && <CleanUp onClose={() => setOpen(null)} />}
      <Cleaned />
      <Loaded
        of={asked}
        what="The images"
        rows={10}
        empty={
          <Empty title="No image yet">
            Add the first one: its file, the models it fits, and what it requires of a device.
          </Empty>
        }
      >
        {(all) => <Families all={all} />}
      </Loaded>
    </>
  );
}

function Families({ all }: { all: Schemas["ImageRow"][] }) {
  return (
    <>
      {[...new Set(all.map((i) => i.family))].map((family) => (
        <section key={family} className="mb-5">
          <h2 className="mb-1.5 text-[1.05rem]">{family}</h2>
          <UpgradePaths models={[...new Set(all.filter((i) => i.family === family).flatMap((i) => i.models))]} />
          <table className="w-full table-fixed rounded-md border border-rule bg-card">
            <thead>
              <tr className="text-left text-soft">
                {[
                  "Version",
                  "Status",
                  "Upgrades from",
                  "Models, revisions",
                  "Requires",
                  "Size",
                  "Installed on",
                  "Actions",
                ].map((h) => (
                  <th key={h} className="px-3 py-1.5 font-normal">
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {all
                .filter((i) => i.family === family)
                .map((i) => (
                  <tr key={i.id} className="border-rule border-t align-top">
                    <td className="px-3 py-1.5">
                      <strong className="font-mono">{i.version}</strong>
                      {i.notes && <div className="text-soft text-xs">{i.notes}</div>}
                    </td>
                    <td
                      className={`px-3 py-1.5 ${i.status === "approved" ? "" : i.status === "withdrawn" ? "text-brick" : "text-saffron-ink"}`}
                    >
                      {i.status}
                      <div className="text-soft text-xs">
                        {i.reason ||
                          (i.status === "new"
                            ? i.added_by && `added by ${i.added_by}`
                            : i.approved_by && `by ${i.approved_by}`)}
                      </div>
                    </td>
                    <td className="px-3 py-1.5 font-mono">
                      {i.min_version ? `≥ ${i.min_version}` : "any"}
                      {(i.released_on || i.expires_on) && (
                        <div className="font-sans text-soft text-xs">
                          {i.released_on && `released ${i.released_on}`} {i.expires_on && `expires ${i.expires_on}`}
                        </div>
                      )}
                    </td>
                    <td className="px-3 py-1.5">
                      {i.models.join(", ")}
                      {i.hardware_revisions.length > 0 && `, revision ${i.hardware_revisions.join(" or ")}`}
                    </td>
                    <td className="px-3 py-1.5 text-soft">
                      {[
                        i.free_space_mb && `${i.free_space_mb} MB free`,
                        i.min_battery_pct && `${i.min_battery_pct}% battery`,
                        `${i.expected_minutes} min`,
                      ]
                        .filter(Boolean)
                        .join(", ")}
                    </td>
                    <td className="px-3 py-1.5">{megabytes(i.size_bytes)}</td>
                    <td className="px-3 py-1.5">
                      {count(i.runs)} <span className="text-soft">of {count(i.fits)}</span>
                      <div className="mt-1">
                        <Bar share={i.fits ? i.runs / i.fits : 0} label={`${i.runs} of ${i.fits} devices`} />
                      </div>
                      {i.ready > 0 && <div className="text-soft text-xs">{count(i.ready)} could go to it</div>}
                      {i.failed > 0 && <div className="text-brick text-xs">failed on {count(i.failed)}</div>}
                    </td>
                    <td className="px-3 py-1">
                      <ImageActions image={i} />
                    </td>
                  </tr>
                ))}
            </tbody>
          </table>
        </section>
      ))}
    </>
  );
}
