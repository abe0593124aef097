import { useEffect } from "react";
import { scrollTo } from "../parts/scrollTo";

/** The device in the hand: a stand-in's own page, at its own address, which has no part in this one. */
export function HandsBoard({ url, handle }: { url: string; handle: string }) {
  useFrameAllowed(url);
  return (
    <aside
      aria-label={`${handle} in your hand`}
      className="bg-base-200 bg-[radial-gradient(340px_300px_at_50%_34%,var(--glow),transparent)] px-1 pt-3 pb-6"
    >
      <p className="px-8 text-caption text-secondary">
        In your hand: a stand-in{" "}
        <a className="press-link ml-2" href={url} target="_blank" rel="noreferrer">
          alone
        </a>
        <button type="button" className="press-link ml-4 lg:hidden" onClick={() => scrollTo("Step")}>
          back to the step
        </button>
      </p>
      <iframe
        title={`${handle} in your hand`}
        src={url}
        sandbox="allow-scripts allow-same-origin"
        className="mx-auto mt-2 block h-[700px] w-full max-w-[364px]"
      />
    </aside>
  );
}

/** A hands page that came to the bench after this page was loaded is not allowed in it yet: it is loaded again, once. */
function useFrameAllowed(url: string) {
  useEffect(() => {
    const refused = (e: SecurityPolicyViolationEvent) => {
      if (e.effectiveDirective !== "frame-src" || sessionStorage.getItem("frame") === url) return;
      sessionStorage.setItem("frame", url);
      location.reload();
    };
    document.addEventListener("securitypolicyviolation", refused);
    return () => document.removeEventListener("securitypolicyviolation", refused);
  }, [url]);
}
