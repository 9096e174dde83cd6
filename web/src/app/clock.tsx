/** The installation's time, ticking, and the operator's zone. */
import { useQuery } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import { health } from "@/api/queries";

interface Clock {
  now: Date;
  zone: string;
  speed: number;
}

const Context = createContext<Clock>({ now: new Date(), zone: "UTC", speed: 1 });

export function ClockProvider({ zone, children }: { zone: string; children: ReactNode }) {
  const { data } = useQuery(health);
  const base = useRef({ real: Date.now(), herald: Date.now(), speed: 1 });
  const [now, setNow] = useState(() => new Date());
  useEffect(() => {
    if (data) base.current = { real: Date.now(), herald: Date.parse(data.now), speed: data.speed };
  }, [data]);
  useEffect(() => {
    const tick = () => {
      const { real, herald, speed } = base.current;
      setNow(new Date(herald + (Date.now() - real) * speed));
    };
    const timer = setInterval(tick, 1000);
    tick();
    return () => clearInterval(timer);
  }, []);
  const value = useMemo(() => ({ now, zone, speed: data?.speed ?? 1 }), [now, zone, data?.speed]);
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

export const useClock = () => useContext(Context);
