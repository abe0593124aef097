import { useState } from "react";
import { useAddSheet } from "../api/owner";
import { ProblemText } from "./ProblemText";

/** A prep sheet's text, to be checked and added. */
export function SheetEditor({ start }: { start: string }) {
  const [text, setText] = useState(start);
  const add = useAddSheet();
  return (
    <form
      aria-label="Prep sheet"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate(text);
      }}
    >
      <label className="block text-row">
        Prep sheet (YAML)
        <textarea
          className="textarea mono mt-0.5 h-72 w-full leading-[18px] whitespace-pre"
          spellCheck={false}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </label>
      <label className="block text-row">
        or a file
        <input
          type="file"
          accept=".yaml,.yml"
          className="file-input file-input-sm mt-0.5 block w-full max-w-md"
          onChange={async (e) => setText((await e.target.files?.[0]?.text()) ?? text)}
        />
      </label>
      <button type="submit" className="press press-small" disabled={add.isPending || text.trim() === ""}>
        Check and add it
      </button>
      {add.data && (
        <p role="status" className="text-row">
          It is active, as <span className="mono break-all">{add.data.file}</span>.
        </p>
      )}
      <span className="block whitespace-pre-wrap">
        <ProblemText error={add.error} />
      </span>
    </form>
  );
}
