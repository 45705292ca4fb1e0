import { ChipText } from "./ChipText";
import type { Aria } from "./Labelled";

interface Props {
  aria: Aria;
  label: string;
  name: string;
  texts: string[];
  onChange: (texts: string[]) => void;
}

/** Several texts with placeholders, a row each. */
export function SeveralChips({ aria, label, name, texts, onChange }: Props) {
  const rows = texts.length === 0 ? [""] : texts;
  const put = (at: number, to: string) => onChange(rows.toSpliced(at, 1, to));
  return (
    <div className="grid gap-2">
      {rows.map((text, at) => (
        // oxlint-disable-next-line react/no-array-index-key -- a row is its place in the list
        <div key={at} className="flex items-start gap-2">
          <div className="min-w-0 flex-1">
            <ChipText
              aria={at === 0 ? aria : { ...aria, id: `${aria.id}-${at}` }}
              label={at === 0 ? label : `${label} ${at + 1}`}
              name={texts.length === 1 ? name : `${name}.${at}`}
              lines={false}
              value={text}
              onChange={(to) => put(at, to)}
            />
          </div>
          {rows.length > 1 && (
            <button type="button" className="btn btn-ghost btn-sm mt-1" aria-label={`Remove ${label} ${at + 1}`} onClick={() => onChange(rows.toSpliced(at, 1))}>
              Remove
            </button>
          )}
        </div>
      ))}
      <p>
        <button type="button" className="btn btn-ghost btn-sm" aria-label={`Another: ${label}`} onClick={() => onChange([...rows, ""])}>
          + another
        </button>
      </p>
    </div>
  );
}
