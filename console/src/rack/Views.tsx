import { NavLink } from "react-router";

const kind = ({ isActive }: { isActive: boolean }) =>
  `border-b-2 pb-1 text-row ${isActive ? "border-base-content font-semibold" : "border-transparent text-secondary hover:text-base-content"}`;

/** The two ways to see the rack. */
export function Views() {
  return (
    <nav aria-label="How the rack is shown" className="flex items-center gap-5">
      <NavLink to="/" end className={kind}>
        By device
      </NavLink>
      <NavLink to="/round" className={kind}>
        By next step
      </NavLink>
    </nav>
  );
}
