/** How many messages one has not read, and the way to them. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { counted } from "@/lib/format";
import { ownMessages } from "@/rooms/notifications/queries";

export function Bell() {
  const { data } = useInfiniteQuery(ownMessages);
  const unread = data?.pages[0]?.unread ?? 0;
  const words = unread ? `Notifications: ${counted(unread, "message")} unread` : "Notifications";
  return (
    <Link
      to="/notifications"
      search={{}}
      aria-label={words}
      title={words}
      className="relative grid h-7 w-7 place-items-center rounded-full hover:bg-side"
    >
      <svg
        width="17"
        height="17"
        viewBox="0 0 20 20"
        aria-hidden="true"
        fill="none"
        stroke="var(--ink)"
        strokeWidth="1.6"
      >
        <path d="M4 14.5h12l-1.6-2.4V8.6a4.4 4.4 0 0 0-8.8 0v3.5z" strokeLinejoin="round" />
        <path d="M8.3 17a1.8 1.8 0 0 0 3.4 0" strokeLinecap="round" />
      </svg>
      {unread > 0 && (
        <span className="absolute -top-1 -right-1.5 min-w-[17px] rounded-full bg-ink px-1 text-center font-semibold text-[11px] text-paper leading-[17px]">
          {unread > 99 ? "99+" : unread}
        </span>
      )}
    </Link>
  );
}
