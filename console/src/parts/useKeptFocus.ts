import { useEffect, useRef } from "react";

/**
 * useKeptFocus keeps the focus in an element when what had it goes away, such as a button that was pressed: then
 * the element itself takes it. It needs a tabIndex of -1.
 */
export function useKeptFocus<T extends HTMLElement>(change: unknown) {
  const ref = useRef<T>(null);
  const had = useRef(false);
  useEffect(() => {
    const noted = () => {
      if (document.activeElement !== document.body) had.current = !!ref.current?.contains(document.activeElement);
    };
    document.addEventListener("focusin", noted);
    return () => document.removeEventListener("focusin", noted);
  }, []);
  useEffect(() => {
    if (had.current && document.activeElement === document.body) ref.current?.focus();
  }, [change]);
  return ref;
}
