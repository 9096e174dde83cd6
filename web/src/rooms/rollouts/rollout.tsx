/** One rollout: composing while it is a draft, watching once it was launched. */

import { useQuery } from "@tanstack/react-query";
import { getRouteApi } from "@tanstack/react-router";
import { usePageTitle } from "@/lib/title";
import { WholePage } from "@/parts/views";
import { ComposeDraft } from "./compose";
import { rollout as rolloutQuery } from "./queries";
import { Watch } from "./watch";

const rolloutRoute = getRouteApi("/rollouts/$id");

export function RolloutPage() {
  const { id } = rolloutRoute.useParams();
  const asked = useQuery(rolloutQuery(Number(id)));
  usePageTitle(asked.data && `Rollout ${id}`);
  return (
    <WholePage of={asked} what={`Rollout ${id}`}>
      {(data) => (data.state === "draft" ? <ComposeDraft key={id} rollout={data} /> : <Watch rollout={data} />)}
    </WholePage>
  );
}
