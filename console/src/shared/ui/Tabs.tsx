import { type KeyboardEvent, type ReactNode, useId } from "react";

interface Props<T extends string> {
  label: string;
  tabs: readonly T[];
  words: Record<T, string>;
  tab: T;
  onTab: (tab: T) => void;
  children: ReactNode;
}

/** Tabs with their panel; the arrow keys go from one to the next. */
export function Tabs<T extends string>({ label, tabs, words, tab, onTab, children }: Props<T>) {
  const id = useId();
  const turn = (event: KeyboardEvent<HTMLDivElement>) => {
    const step = { ArrowRight: 1, ArrowLeft: -1, Home: -tabs.indexOf(tab), End: tabs.length - 1 - tabs.indexOf(tab) }[event.key];
    const next = step === undefined ? undefined : tabs[(tabs.indexOf(tab) + step + tabs.length) % tabs.length];
    if (next === undefined) return;
    event.preventDefault();
    onTab(next);
    document.getElementById(`${id}-${next}`)?.focus();
  };
  return (
    <>
      <div role="tablist" tabIndex={-1} className="tabs tabs-border" aria-label={label} onKeyDown={turn}>
        {tabs.map((one) => (
          <button
            key={one}
            id={`${id}-${one}`}
            type="button"
            role="tab"
            aria-selected={tab === one}
            aria-controls={`${id}-panel`}
            tabIndex={tab === one ? 0 : -1}
            className={`tab ${tab === one ? "tab-active font-semibold" : ""}`}
            onClick={() => onTab(one)}
          >
            {words[one]}
          </button>
        ))}
      </div>
      <div role="tabpanel" id={`${id}-panel`} aria-labelledby={`${id}-${tab}`}>
        {children}
      </div>
    </>
  );
}
