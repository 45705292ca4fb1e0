import { useQuery } from "@tanstack/react-query";

import { Shown } from "../../shared/ui/states";
import { type Line, textsQuery } from "./queries";

/** Both versions of a text, line by line. */
export function Texts({ twin, line }: { twin: string; line: Line }) {
  return (
    <Shown query={useQuery(textsQuery(twin, line.near, line.far))}>
      {(texts) =>
        texts.why_not ? (
          <p>{texts.why_not}.</p>
        ) : (
          <>
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
