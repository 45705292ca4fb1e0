import { type Query, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Changes are gathered for so long before the page looks anew. */
const GATHER_MS = 300;

/**
 * Keeps every page true: what the service tells makes what is shown be asked again. Only a page
 * that is seen listens: a browser allows six connections to one service, and pages that are
 * hidden, or kept for going back, would hold them all.
 */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    let timer: number | undefined;
    let source: EventSource | undefined;
    const look = () => {
      timer ??= window.setTimeout(() => {
        timer = undefined;
        // What is on its way is not broken off, or a slow connection would never show anything; it is asked again after it.
        const isLive = (one: Query): boolean => one.queryKey[0] === "live";
        const isFetching = (one: Query): boolean => one.state.fetchStatus === "fetching";
        const isLate = client.getQueryCache().findAll({ predicate: isLive }).some(isFetching);
        void client.invalidateQueries({ predicate: (one) => isLive(one) && !isFetching(one) });
        if (isLate) look();
      }, GATHER_MS);
    };
    const listen = () => {
      if (source || document.hidden) return;
      source = new EventSource("/api/v1/events");
      source.addEventListener("message", look);
      source.addEventListener("open", () => {
        setConnected(true);
        look();
      });
      source.addEventListener("error", () => {
        setConnected(false);
        // It is refused, and does not try again: whatever is asked next says why.
        if (source?.readyState === EventSource.CLOSED) look();
      });
    };
    const rest = () => {
      source?.close();
      source = undefined;
    };
    const turn = () => (document.hidden ? rest() : listen());
    listen();
    document.addEventListener("visibilitychange", turn);
    window.addEventListener("pagehide", rest);
    window.addEventListener("pageshow", listen);
    return () => {
      document.removeEventListener("visibilitychange", turn);
      window.removeEventListener("pagehide", rest);
      window.removeEventListener("pageshow", listen);
      rest();
      window.clearTimeout(timer);
    };
  }, [client]);
  return connected;
}
