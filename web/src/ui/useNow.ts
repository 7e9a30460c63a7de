import { useEffect, useState } from "react";

/** The time, which moves on once a second while `running`. */
export function useNow(running: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(
      () => {
        setNow(Date.now());
      },
      running ? 1000 : 30_000,
    );
    return () => {
      clearInterval(timer);
    };
  }, [running]);
  return now;
}
