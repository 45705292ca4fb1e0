import { useId } from "react";

interface Props {
  label: string;
  accept?: string;
  onFile: (file: File) => void;
}

/** A file that is dropped on it, or chosen. */
export function DropFile({ label, accept, onFile }: Props) {
  const id = useId();
  return (
    <div className="border-base-300 relative grid place-items-center rounded border-2 border-dashed px-4 py-5 text-center focus-within:outline-2">
      <label htmlFor={id}>{label}</label>
      {/* It lies over all of it: browsers let a file be dropped on it. */}
      <input
        id={id}
        type="file"
        accept={accept}
        className="absolute inset-0 size-full cursor-pointer opacity-0"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) onFile(file);
          event.target.value = "";
        }}
      />
    </div>
  );
}
