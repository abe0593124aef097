/** The mark: a bench, and the sun that rises behind it. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 24" width="33" height="24" aria-hidden="true" fill="none">
      <path d="M9.5 14a6.5 6.5 0 0 1 13 0z" className="fill-accent" />
      <path d="M2 15.4h28M7 15.4V23M25 15.4V23" className="stroke-primary" strokeWidth="2.6" />
    </svg>
  );
}
