import { useQuery } from "@tanstack/react-query";

import { Shown } from "../../shared/ui/states";
import { type Line, textsQuery } from "./queries";

/** Whose each version is, where its place tells that. */
function Owners({ near, far }: { near?: string | null; far?: string | null }) {
  const told = [near && `Here it is ${near}’s`, far && `there ${far}’s`].filter(Boolean).join(", ");
  return told ? <p className="pb-2">{told.charAt(0).toUpperCase() + told.slice(1)}.</p> : null;
}

/** Both versions of a text, line by line. */
export function Texts({ twin, line }: { twin: string; line: Line }) {
  return (
    <Shown query={useQuery(textsQuery(twin, line.near, line.far))}>
      {(texts) =>
        texts.why_not ? (
          <>
            <Owners near={texts.near_owner} far={texts.far_owner} />
            <p>{texts.why_not}.</p>
          </>
        ) : (
          <>
            <Owners near={texts.near_owner} far={texts.far_owner} />
            <p className="quiet pb-2 text-sm">− only here, + only there, everything else on both sides.</p>
            <pre className="file panel max-h-96 overflow-auto p-3 text-sm">
              {texts.lines.map((one, at) => (
                <span key={at} className={`block ${{ added: "text-success", removed: "text-error", same: "quiet" }[one.change]}`}>
                  {{ added: "+ ", removed: "− ", same: "  " }[one.change]}
                  {one.text}
                </span>
              ))}
            </pre>
          </>
        )
      }
    </Shown>
  );
}
