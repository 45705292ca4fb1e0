import { useId } from "react";

interface Props {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: "text" | "password";
  autoComplete: string;
  inputMode?: "numeric";
  hint?: string;
}

/** A field of a form of people. */
export function Typed({ label, value, onChange, type = "text", autoComplete, inputMode, hint }: Props) {
  const id = useId();
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      <input
        id={id}
        type={type}
        autoComplete={autoComplete}
        inputMode={inputMode}
        spellCheck={false}
        autoCapitalize="none"
        aria-describedby={hint ? `${id}-hint` : undefined}
        className="input w-full"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      {hint && (
        <p id={`${id}-hint`} className="quiet text-sm">
          {hint}
        </p>
      )}
    </div>
  );
}

/** Why something was refused. */
export function Told({ error }: { error: Error | null }) {
  return error ? (
    <p role="alert" className="text-error">
      {error.message}
    </p>
  ) : null;
}
