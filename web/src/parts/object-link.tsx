/** A link to an object that is known by its kind and id; a device also by its name, by which its page goes. */
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";

export function ObjectLink({
  kind,
  id,
  name,
  className,
  children,
}: {
  kind: string;
  id: number;
  name?: string;
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
    case "freeze":
    case "calendar":
      return (
        <Link to="/library" search={{ shelf: "freezes" }} className={className}>
          {children}
        </Link>
      );
    case "site":
      return (
        <Link to="/sites/$id" {...of}>
          {children}
        </Link>
      );
    case "repeated-import":
      return (
        <Link to="/import/$id" params={{ id: "new" }} className={className}>
          {children}
        </Link>
      );
    case "attention":
      return (
        <Link to="/attention" search={{}} className={className}>
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
      if (!name) return <>{children}</>;
      return (
        <Link to="/devices/$name" params={{ name }} className={className}>
          {children}
        </Link>
      );
    default:
      return <>{children}</>;
  }
}
