import { useState } from "react";

/** A command for the computer of the bench, and a button that copies it. */
export function CommandLine({ children }: { children: string }) {
  const [copied, setCopied] = useState("");
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(children);
      setCopied("Copied");
    } catch {
      setCopied("This browser does not allow copying: select the text");
    }
  };
  return (
    <span className="my-1 flex flex-wrap items-center gap-x-3 gap-y-1 rounded-lg bg-base-content/5 px-3 py-1 text-base-content">
      <code className="mono min-w-0 break-words">{children}</code>
      <button type="button" className="press-link ml-auto text-row" aria-label={`Copy ${children}`} onClick={copy}>
        {copied || "Copy"}
      </button>
    </span>
  );
}
