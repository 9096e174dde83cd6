/** What whoever is signed in may change. The server decides; this only keeps buttons from promising more. */
import { useQuery } from "@tanstack/react-query";
import { session } from "@/api/queries";

type Bare = "operate" | "stop" | "approve" | "administer" | "comment";
/** With “-all”: for those who are not limited to some devices, as it is about the whole fleet. */
export type Ability = Bare | `${Bare}-all`;

export function useMay(ability: Ability): boolean {
  const { data } = useQuery(session);
  const user = data?.user;
  if (!user) return false;
  const [bare, all] = ability.split("-");
  return user.abilities.some((a) => a === bare) && (!all || user.limits === null);
}

/** What whoever is signed in is limited to, in words; null for those who see everything. */
export function useLimits(): string | null {
  const { data } = useQuery(session);
  return data?.user?.limits ?? null;
}
