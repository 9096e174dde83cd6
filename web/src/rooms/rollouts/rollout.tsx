/** One rollout: composing while it is a draft, watching once it was launched. */
import { useQuery } from "@tanstack/react-query";
import { rollout as rolloutQuery } from "@/api/queries";
import { rolloutRoute } from "@/app/router";
import { Problem } from "@/parts/controls";
import { ComposeDraft } from "./compose";
import { Watch } from "./watch";

export function RolloutPage() {
  const { id } = rolloutRoute.useParams();
  const { data, error } = useQuery(rolloutQuery(Number(id)));
  if (error && !data)
    return (
      <div className="p-6">
        <Problem error={error} />
      </div>
    );
  if (!data) return null;
  return data.state === "draft" ? <ComposeDraft key={id} rollout={data} /> : <Watch rollout={data} />;
}
