/** The roles, and what each is for, in the words of every place that offers them. */
import type { Schemas } from "@/api/client";

export type Role = Schemas["Me"]["role"];

export const ROLES: Record<Role, string> = {
  viewer: "looks and previews",
  operator: "groups, devices, rollouts, commands",
  approver: "approves images, gates and overrides",
  administrator: "people, policies, keys and codes",
};

export const ROLE_NAMES = Object.keys(ROLES) as Role[];
