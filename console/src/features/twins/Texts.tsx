import { useQuery } from "@tanstack/react-query";

import { Shown } from "../../shared/ui/states";
import { capital, plural } from "../../shared/ui/format";
import { type Line, textsQuery } from "./queries";

/** Whose each version is, where its place tells that. */
function Owners({ near, far }: { near?: string | null; far?: string | null }) {
  const told = [near && `Here it is ${near}’s`, far && `there ${far}’s`].filter(Boolean).join(", ");
  return told ? <p className="pb-2">{capital(told)}.</p> : null;
}

/** Lines around a difference that are shown. */
const AROUND = 3;

/** The lines, of longer runs of the same how many they are. */
function folded<L extends { change: string }>(lines: L[]): (L | number)[] {
  const differs = lines.flatMap((line, at) => (line.change === "same" ? [] : [at]));
  const isNear = new Set(differs.flatMap((at) => Array.from({ length: 2 * AROUND + 1 }, (_, off) => at - AROUND + off)));
  const shown: (L | number)[] = [];
  lines.forEach((line, at) => {
    const last = shown.at(-1);
    if (isNear.has(at)) shown.push(line);
    else if (typeof last === "number") shown[shown.length - 1] = last + 1;
    else shown.push(1);
  });
  return shown;
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
              {folded(texts.lines).map((one, at) =>
                typeof one === "number" ? (
                  <span key={at} className="quiet block py-1">
                    {"  "}… {plural(one, "line is the same", "lines are the same")}
                  </span>
                ) : (
                  <span key={at} className={`block ${{ added: "text-success", removed: "text-error", same: "quiet" }[one.change]}`}>
                    {{ added: "+ ", removed: "− ", same: "  " }[one.change]}
                    {one.text}
                  </span>
                ),
              )}
            </pre>
          </>
        )
      }
    </Shown>
  );
}
