import { lazy, Suspense, useState } from "react";

const ScreenViewer = lazy(() => import("./ScreenViewer"));

interface ScreenPanelProps {
  handle: string;
  linked: boolean;
  lacks?: string;
  /** Whoever sees it cannot touch it. */
  looks?: boolean;
  /** It is shown from the beginning. */
  open?: boolean;
}

/** The device's screen over the link, seen and touched; it opens when one asks for it. */
export function ScreenPanel({ handle, linked, lacks, looks = false, open: shown = false }: ScreenPanelProps) {
  const [open, setOpen] = useState(shown);
  return (
    <section aria-label="Screen" className="mt-6">
      <h2 className="flex items-baseline gap-4 text-section font-semibold">
        Screen
        {linked && !lacks && (
          <button type="button" className="press-link text-row" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Close it" : "Show it here"}
          </button>
        )}
      </h2>
      {!linked && <p className="mt-2 text-row text-secondary">It comes over the link, once that is up.</p>}
      {linked && lacks && <p className="mt-2 text-row text-secondary">{lacks}</p>}
      {linked && !lacks && open && (
        <Suspense fallback={<p role="status">It is being fetched…</p>}>
          <ScreenViewer key={handle} handle={handle} looks={looks} />
        </Suspense>
      )}
    </section>
  );
}
