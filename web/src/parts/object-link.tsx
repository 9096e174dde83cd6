/** A link to an object that is known by its kind and id. */
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";

export function ObjectLink({
  kind,
  id,
  className,
  children,
}: {
  kind: string;
  id: number;
  className?: string;
  children: ReactNode;
}) {
  const of = { params: { id: String(id) }, search: {}, className };
  switch (kind) {
    case "rollout":
      return (
        <Link to="/rollouts/$id" {...of}>
          {children}
        </Link>
      );
    case "schedule":
      return (
        <Link to="/commands/$id" {...of}>
          {children}
        </Link>
      );
    case "group":
      return (
        <Link to="/groups/$id" {...of}>
          {children}
        </Link>
      );
    case "device":
      return (
        <Link to="/devices/$name" params={{ name: String(id) }} className={className}>
          {children}
        </Link>
      );
    default:
      return <>{children}</>;
  }
}
