import { useState } from "react";
import { useDraft } from "../api/owner";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { SheetEditor } from "../parts/SheetEditor";

/** Begins a prep sheet with what was seen of something unrecognised. */
export function DraftSheet({ name }: { name: string }) {
  const [open, setOpen] = useState(false);
  const draft = useDraft(name, open);
  if (!open)
    return (
      <button type="button" className="press press-small" onClick={() => setOpen(true)}>
        Begin a sheet for {name}
      </button>
    );
  return (
    <div className="w-full">
      <p className="max-w-prose text-row text-secondary">
        The draft contains what was seen of {name}. Its comments say what is missing; the guide
        docs/guides/writing-a-sheet.md goes through all of it.
      </p>
      <ProblemText error={draft.error} />
      {draft.data && (
        <OwnerOnly what={`Edit the sheet for ${name}`} command={`earlybench sheet new --from ${name}`}>
          <SheetEditor start={draft.data.text} />
        </OwnerOnly>
      )}
    </div>
  );
}
