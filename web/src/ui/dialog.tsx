/** A dialog that takes the focus, gives it back, and closes on Escape. */
import { useEffect, useRef } from 'react';

export function Dialog({
  title,
  close,
  children,
}: {
  title: string;
  close: () => void;
  children: React.ReactNode;
}) {
  const ref = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const dialog = ref.current;
    dialog?.showModal();
    return () => dialog?.close();
  }, []);
  return (
    <dialog
      ref={ref}
      className="modal items-start pt-[12vh] focus-visible:outline-none"
      aria-label={title}
      onClose={close}
    >
      <div className="modal-box max-h-[84vh] border border-rule">
        <h2 className="mb-3 text-base font-semibold">{title}</h2>
        {children}
        {/* after what is in it, so that the focus begins there */}
        <form method="dialog" className="absolute top-3 right-3">
          <button type="submit" className="btn btn-ghost btn-xs" aria-label="Close" title="Close (Esc)">
            ✕
          </button>
        </form>
      </div>
      <form method="dialog" className="modal-backdrop">
        <button type="submit" tabIndex={-1} aria-hidden="true">
          close
        </button>
      </form>
    </dialog>
  );
}
