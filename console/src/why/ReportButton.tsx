import { useState } from "react";
import { fetchReport } from "../api/queries";

/** Copies a text without secrets, for a colleague; where copying is not allowed, it shows it. */
export function ReportButton({ handle }: { handle: string }) {
  const [state, setState] = useState("");
  const [text, setText] = useState("");
  const copy = async () => {
    try {
      const report = await fetchReport(handle);
      try {
        await navigator.clipboard.writeText(report);
        setState("Copied");
      } catch {
        setText(report);
      }
    } catch (e) {
      setState(e instanceof Error ? e.message : "Not available");
    }
  };
  return (
    <>
      <button type="button" className="press press-small press-bare font-medium" onClick={copy}>
        {state || "Copy for a colleague"}
      </button>
      {text && (
        <dialog open aria-label="Report" className="fixed inset-8 z-10 m-auto rounded-xl bg-base-200 p-5 font-normal">
          <textarea aria-label="Report" readOnly className="mono h-[70vh] w-[70vw] max-w-3xl" value={text} />
          <button type="button" className="press mt-3" onClick={() => setText("")}>
            Close
          </button>
        </dialog>
      )}
    </>
  );
}
