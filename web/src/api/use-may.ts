/** What the role of whoever is signed in may change. The server decides; this only keeps buttons from promising more. */
import { useQuery } from "@tanstack/react-query";
import { session } from "@/api/queries";

export type Ability = "operate" | "stop" | "approve" | "administer" | "comment";

export function useMay(ability: Ability): boolean {
  const { data } = useQuery(session);
  return data?.user?.abilities.includes(ability) ?? false;
}
