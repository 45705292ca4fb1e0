import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Changes are gathered for so long before the page looks anew. */
const GATHER_MS = 300;

/** Keeps every page true: what the service tells makes what is shown be asked again. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    let timer: number | undefined;
    const source = new EventSource("/api/v1/events");
    const look = () => {
      timer ??= window.setTimeout(() => {
        timer = undefined;
        void client.invalidateQueries({ predicate: (one) => one.queryKey[0] === "live" });
      }, GATHER_MS);
    };
    source.addEventListener("message", look);
    source.addEventListener("open", () => {
      setConnected(true);
      look();
    });
    source.addEventListener("error", () => setConnected(false));
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [client]);
  return connected;
}
