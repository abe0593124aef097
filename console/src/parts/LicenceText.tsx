import { useState } from "react";
import { useLicence } from "../api/supply";
import { ProblemText } from "./ProblemText";

/** A licence's text, which is asked for when somebody opens it. */
export function LicenceText({ name, digest }: { name: string; digest: string }) {
  const [open, setOpen] = useState(false);
  const licence = useLicence(digest, open);
  return (
    <details className="mt-2 max-w-prose" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-6 cursor-pointer text-row font-medium">{name}</summary>
      <ProblemText error={licence.error} />
      {licence.data && (
        /* A text that scrolls has to be reached with the keyboard. */
        <pre
          // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex
          tabIndex={0}
          aria-label={`Text of ${name}`}
          className="mt-2 max-h-64 overflow-auto rounded-lg bg-base-100 p-3 text-caption whitespace-pre-wrap"
        >
          {licence.data.text}
        </pre>
      )}
    </details>
  );
}
