import { type ReactNode, useEffect, useRef } from "react";

/** A native dialog: focus stays inside and returns when it closes, Escape closes it. */
export function Dialog({ title, open, onClose, children }: { title: string; open: boolean; onClose: () => void; children: ReactNode }) {
  const ref = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const dialog = ref.current;
    if (open && !dialog?.open) dialog?.showModal();
    if (!open && dialog?.open) dialog.close();
  }, [open]);
  return (
    <dialog ref={ref} className="modal" onClose={onClose} aria-label={title}>
      <div className="modal-box max-w-2xl">
        <h2 className="pb-3 text-lg font-semibold">{title}</h2>
        {open && children}
      </div>
    </dialog>
  );
}
