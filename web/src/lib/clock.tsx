/** The installation's time, ticking, and the operator's zone. */
import { type UseQueryResult, useQuery } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import { health } from "@/api/queries";

interface Clock {
  now: Date;
  zone: string;
  speed: number;
}

type Asked = Pick<UseQueryResult, "error" | "refetch">;

const Context = createContext<Clock | null>(null);

/** Gives its children the installation's time, which is not the machine's where a demo runs fast; `waiting` stands in
 * their place until it is known, for every age on a page is measured from it. */
export function ClockProvider({
  zone,
  waiting,
  children,
}: {
  zone: string;
  waiting: (asked: Asked) => ReactNode;
  children: ReactNode;
}) {
  const asked = useQuery(health);
  const { data } = asked;
  const base = useRef<{ real: number; herald: number; speed: number } | null>(null);
  const [now, setNow] = useState<Date | null>(null);
  useEffect(() => {
    if (!data) return;
    base.current = { real: Date.now(), herald: Date.parse(data.now), speed: data.speed };
    setNow(new Date(data.now));
  }, [data]);
  useEffect(() => {
    const tick = () => {
      if (!base.current) return;
      const { real, herald, speed } = base.current;
      setNow(new Date(herald + (Date.now() - real) * speed));
    };
    const timer = setInterval(tick, 1000);
    tick();
    return () => clearInterval(timer);
  }, []);
  const value = useMemo(() => now && { now, zone, speed: data?.speed ?? 1 }, [now, zone, data?.speed]);
  if (!value) return <>{waiting(asked)}</>;
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

export function useClock(): Clock {
  const clock = useContext(Context);
  if (!clock) throw new Error("useClock must be used within ClockProvider");
  return clock;
}
