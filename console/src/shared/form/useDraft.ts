import { useEffect, useRef, useState } from "react";

import { ApiError, type Schemas, api, told } from "../api/client";
import type { Table } from "./values";

export type Draft = Schemas["Draft"];

/** A section in hand: by form, with the text so far, or by text. */
export type Proposal = ({ name: string; value: Table; old?: string | undefined } | { text: string }) & { sample?: Schemas["SampleFile"] | undefined };

/** Keys that come faster than this are told together. */
const SETTLED_MS = 20;

interface Read {
  draft: Draft | undefined;
  /** What was answered is not about what is typed now. */
  isBehind: boolean;
  error: Error | undefined;
}

/** What the service says of a section while it is typed. The last answer wins. */
export function useDraft(kind: string, proposal: Proposal, first?: Draft): Read {
  const body = JSON.stringify(proposal);
  const asked = useRef(first ? body : "");
  const [read, setRead] = useState<{ draft: Draft | undefined; of: string; error: Error | undefined }>({ draft: first, of: first ? body : "", error: undefined });
  useEffect(() => {
    if (asked.current === body) return;
    const timer = setTimeout(() => {
      asked.current = body;
      void told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind } }, body: JSON.parse(body) as Schemas["ProposedDraft"] })).then(
        (draft) => asked.current === body && setRead({ draft, of: body, error: undefined }),
        (error: unknown) => {
          if (asked.current !== body) return;
          // What did not get there is asked anew with the next key.
          if (error instanceof ApiError && error.problem.status === 0) asked.current = "";
          setRead(({ draft }) => ({ draft, of: body, error: error instanceof Error ? error : new Error(String(error)) }));
        },
      );
    }, SETTLED_MS);
    return () => clearTimeout(timer);
  }, [kind, body]);
  return { draft: read.draft, isBehind: read.of !== body, error: read.error };
}
