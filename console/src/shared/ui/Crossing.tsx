import { Fragment, type KeyboardEvent, type ReactNode, useId, useState, useSyncExternalStore } from "react";

export type StoneState = "done" | "working" | "waiting" | "failed" | "skipped" | "rest";

export interface Stone {
  key: string;
  label: string;
  detail?: ReactNode;
  state: StoneState;
  /** What is told to those who do not see it, besides label and state. */
  spoken?: string;
  /** Where steps are changed: opens it below. */
  onOpen?: () => void;
  isOpen?: boolean;
  /** What it is called where it can be opened. */
  name?: string;
  /** Where steps are changed: moves it by one along its lane. */
  onMove?: (by: -1 | 1) => void;
  /** Where steps are changed: asks whether it is to go. */
  onRemove?: () => void;
}

export interface Lane {
  key: string;
  /** Above the stones. */
  title?: ReactNode;
  near: ReactNode;
  far: ReactNode;
  stones: Stone[];
  /** Where steps are changed: puts one before the stone of this number. */
  onAdd?: (at: number) => void;
}

const SIGNS: Record<StoneState, string> = { done: "✓", working: "…", waiting: "", failed: "!", skipped: "–", rest: "" };
const WORDS: Record<StoneState, string> = {
  done: "done",
  working: "working",
  waiting: "waiting",
  failed: "failed",
  skipped: "skipped",
  rest: "at rest",
};

/** A stone's outline: eight points on an ellipse, each a little off by a seed. */
export function pebble(width: number, height: number, seed: number): string {
  const points = Array.from({ length: 8 }, (_, i) => {
    const angle = (i / 8) * 2 * Math.PI;
    const reach = 1 + 0.09 * Math.sin(seed * 3 + i * 2.3);
    return [31 + (Math.cos(angle) * width * reach) / 2, 18 + (Math.sin(angle) * height * reach) / 2] as const;
  });
  const middle = (i: number) => {
    const [a, b] = [points[i % 8], points[(i + 1) % 8]];
    return a && b ? [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2].map((n) => n.toFixed(1)).join(" ") : "";
  };
  const curves = points.map(([x, y], i) => `Q ${x.toFixed(1)} ${y.toFixed(1)} ${middle(i)}`);
  return `M ${middle(7)} ${curves.join(" ")} Z`;
}

function Water() {
  const id = useId();
  return (
    <svg className="ford-water" aria-hidden>
      <defs>
        <pattern id={id} width="24" height="12" patternUnits="userSpaceOnUse">
          <path d="M0 6 Q 6 1 12 6 T 24 6" fill="none" stroke="currentColor" strokeWidth="1.6" />
        </pattern>
      </defs>
      <rect width="100%" height="12" fill={`url(#${id})`} />
    </svg>
  );
}

export function Bank({ side }: { side: "near" | "far" }) {
  const path =
    side === "near"
      ? "M0 0 L94 0 C 100 22 90 38 95 60 C 99 78 93 90 97 100 L0 100 Z"
      : "M100 0 L6 0 C 0 20 9 40 5 62 C 1 80 7 90 3 100 L100 100 Z";
  return (
    <svg className={`bank bank-${side}`} viewBox="0 0 100 100" preserveAspectRatio="none" aria-hidden>
      <path d={path} vectorEffect="non-scaling-stroke" />
    </svg>
  );
}

/** Where a step can be put. */
function Between({ lane, number, at }: { lane: Lane; number: number; at: number }) {
  if (!lane.onAdd) return null;
  return (
    <li className="stone-between">
      <button type="button" aria-label={`Add a step to branch ${number + 1}, as step ${at + 1}`} onClick={() => lane.onAdd?.(at)}>
        +
      </button>
    </li>
  );
}

function Look({ lane, stone, at, seed }: { lane: Lane; stone: Stone; at: number; seed: number }) {
  return (
    <>
      {stone.name && <span className="sr-only">{stone.name}: </span>}
      <svg viewBox="0 0 62 36" aria-hidden>
        <path d={pebble(58, 30, seed)} />
        <text x="31" y="18">
          {SIGNS[stone.state]}
        </text>
      </svg>
      <span className="text-[13px] leading-tight">{stone.label}</span>
      {stone.detail && <span className="quiet text-[11.5px] leading-tight">{stone.detail}</span>}
      <span className="sr-only">
        {stone.name ? "" : `step ${at + 1} of ${lane.stones.length}`}, {WORDS[stone.state]}
        {stone.spoken ? `, ${stone.spoken}` : ""}
      </span>
    </>
  );
}

/** A narrower window has no room for banks. */
const NARROW = "(max-width: 999px)";
const KEPT = "crossing as a list";

function useNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      const media = window.matchMedia(NARROW);
      media.addEventListener("change", changed);
      return () => media.removeEventListener("change", changed);
    },
    () => window.matchMedia(NARROW).matches,
  );
}

const opening = (lane: Element | null | undefined): HTMLElement[] => [...(lane?.querySelectorAll<HTMLElement>("[data-stone]") ?? [])];

/** Arrow keys go from stone to stone, along a lane and to the next one; with Alt they move the step, Delete takes it away. */
function turn(event: KeyboardEvent<HTMLElement>, lanes: Lane[]) {
  const stone = (event.target as HTMLElement).closest<HTMLElement>("[data-stone]");
  const along = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
  const across = { ArrowUp: -1, ArrowDown: 1 }[event.key];
  if (!stone || (along === undefined && across === undefined && event.key !== "Delete")) return;
  const lane = stone.closest("li.lane");
  const all = [...(lane?.parentElement?.querySelectorAll(":scope > li.lane") ?? [])];
  const number = all.indexOf(lane as Element);
  const order = opening(lane).indexOf(stone);
  const meant = lanes[number]?.stones.filter(({ onOpen }) => onOpen)[order];
  event.preventDefault();
  if (event.key === "Delete") return meant?.onRemove?.();
  if (event.altKey && along !== undefined) return meant?.onMove?.(along as -1 | 1);
  const row = opening(across === undefined ? lane : all[number + across]);
  row[Math.max(0, Math.min(row.length - 1, order + (along ?? 0)))]?.focus();
}

/** Files cross from the near bank over stepping stones to the far bank; in a narrow window, or if one likes it better, a list. */
export function Crossing({ lanes, label, more, canList = false }: { lanes: Lane[]; label: string; more?: ReactNode; canList?: boolean }) {
  const isNarrow = useNarrow();
  const [isChosen, setChosen] = useState(() => localStorage.getItem(KEPT) === "yes");
  const choose = () => {
    localStorage.setItem(KEPT, isChosen ? "no" : "yes");
    setChosen(!isChosen);
  };
  const isList = isNarrow || (canList && isChosen);
  return (
    <section className="overflow-x-auto" aria-label={label}>
      {canList && !isNarrow && (
        <p className="pb-1 text-right text-sm">
          <button type="button" className="link" onClick={choose}>
            {isChosen ? "Show it as a picture" : "Show it as a list"}
          </button>
        </p>
      )}
      <div className={isList ? "crossing as-list" : "crossing"}>
        <Bank side="near" />
        <Bank side="far" />
        <ol className="crossing-lanes">
          {lanes.map((lane, laneNumber) => (
            <li key={lane.key} className="lane">
              <div className="lane-near">{lane.near}</div>
              <div>
                {lane.title && <div className="lane-title">{lane.title}</div>}
                <div className="ford">
                  <Water />
                  <ol className="stones">
                    {lane.stones.map((stone, at) => (
                      <Fragment key={stone.key}>
                        {stone.onOpen && <Between lane={lane} number={laneNumber} at={lane.stones.slice(0, at).filter(({ onOpen }) => onOpen).length} />}
                        <li className="stone" data-state={stone.state} data-open={stone.isOpen}>
                          {stone.onOpen ? (
                            <button type="button" aria-pressed={stone.isOpen ?? false} className="stone-open" data-stone onKeyDown={(event) => turn(event, lanes)} onClick={stone.onOpen}>
                              <Look lane={lane} stone={stone} at={at} seed={laneNumber * 7 + at * 3 + 1} />
                            </button>
                          ) : (
                            <Look lane={lane} stone={stone} at={at} seed={laneNumber * 7 + at * 3 + 1} />
                          )}
                        </li>
                      </Fragment>
                    ))}
                  </ol>
                </div>
              </div>
              <div className="lane-far">{lane.far}</div>
            </li>
          ))}
          {more && <li className="quiet px-4 text-center text-sm">{more}</li>}
        </ol>
      </div>
    </section>
  );
}
