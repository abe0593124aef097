/** scrollTo brings the part of the page with an accessible name into view. */
export function scrollTo(label: string) {
  document.querySelector(`[aria-label='${label}']`)?.scrollIntoView({ block: "start", behavior: "smooth" });
}
