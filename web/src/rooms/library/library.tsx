/** Library: what is kept ready for use, a shelf for each kind. */
import { getRouteApi, Link } from "@tanstack/react-router";
import { useLimits } from "@/api/use-may";
import { usePageTitle } from "@/lib/title";
import { ApprovalPolicies } from "./approval-policies";
import { Attributes } from "./attributes";
import { CommandTemplates } from "./command-templates";
import { Enrolment } from "./enrolment";
import { Facts } from "./facts";
import { Freezes } from "./freezes";
import { Images } from "./images";
import { Custodians, Models, Sites } from "./reference-data";
import { RingPlans } from "./ring-plans";
import { Tags } from "./tags";

const libraryRoute = getRouteApi("/library");

const SHELVES = {
  images: "Images",
  approval: "Approval",
  plans: "Ring plans",
  commands: "Commands",
  freezes: "Freezes",
  attributes: "Attributes",
  facts: "Facts",
  tags: "Tags",
  sites: "Sites",
  models: "Models",
  custodians: "Custodians",
  enrolment: "Enrolment",
} as const;

/** Shelves of the whole installation, which whoever is limited to some devices does not see. */
const OF_ALL = new Set(["approval", "enrolment"]);

export function Library() {
  const limits = useLimits();
  const { shelf = "images" } = libraryRoute.useSearch();
  usePageTitle(`Library: ${SHELVES[shelf as keyof typeof SHELVES] ?? "Images"}`);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: it must scroll by keyboard also where nothing in it takes the focus
    <section aria-label="Library" tabIndex={0} className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex items-baseline gap-6">
        <h1 className="text-2xl">Library</h1>
        <nav aria-label="Shelves" className="flex gap-5">
          {Object.entries(SHELVES)
            .filter(([key]) => limits === null || !OF_ALL.has(key))
            .map(([key, words]) => (
              <Link
                key={key}
                to="/library"
                search={{ shelf: key }}
                aria-current={shelf === key ? "page" : undefined}
                className={`border-b-2 py-0.5 ${shelf === key ? "border-ink font-semibold" : "border-transparent text-soft"}`}
              >
                {words}
              </Link>
            ))}
        </nav>
      </div>
      {shelf === "images" && <Images />}
      {shelf === "approval" && <ApprovalPolicies />}
      {shelf === "plans" && <RingPlans />}
      {shelf === "commands" && <CommandTemplates />}
      {shelf === "freezes" && <Freezes />}
      {shelf === "attributes" && <Attributes />}
      {shelf === "facts" && <Facts />}
      {shelf === "tags" && <Tags />}
      {shelf === "sites" && <Sites />}
      {shelf === "models" && <Models />}
      {shelf === "custodians" && <Custodians />}
      {shelf === "enrolment" && <Enrolment />}
    </section>
  );
}
