import { AddDevice } from "./AddDevice";
import { DraftSheet } from "./DraftSheet";
import { Eye, SquareDashed, TriangleAlert } from "lucide-react";
import { Link } from "react-router";
import { useSheets, useUnrecognised } from "../api/queries";

/** What has no row: things that no sheet fits, with how we know; edits of sheets that are not active; what does not show up. */
export function Shelf() {
  const unrecognised = useUnrecognised();
  const sheets = useSheets();
  return (
    <section aria-label="Seen, but not known" className="-mx-5 mt-6 bg-base-200 px-5 py-3 md:-mx-8 md:px-8">
      <ul>
        {unrecognised.data?.items.map((s) => (
          <li key={s.name} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1 text-row">
            <span className="flex items-center gap-2.5">
              <SquareDashed size={16} strokeWidth={1.5} aria-hidden="true" className="text-secondary" />
              <b className="font-semibold">{s.name}</b>
            </span>
            <span className="flex items-center gap-2">
              <Eye size={14} strokeWidth={1.5} aria-hidden="true" className="text-(--road)" />
              <span>
                <span className="mono">{s.usb}</span> on {s.port} of {s.host}: {s.interfaces.join(", ")}
              </span>
            </span>
            <span className="md:ml-auto">No prep sheet fits it.</span>
            <DraftSheet name={s.name} />
          </li>
        ))}
        {sheets.data?.trouble.map((m) => (
          <li key={m.file + m.line + m.text} className="flex flex-wrap items-baseline gap-x-2.5 py-1 text-row">
            <TriangleAlert size={16} strokeWidth={1.5} aria-hidden="true" className="translate-y-[3px]" />
            <b className="font-semibold">An edit of a sheet is not active</b>
            <span className="mono break-all">
              {m.file}:{m.line}:{m.column}
            </span>
            <span>
              {m.text}
              {m.hint && `; ${m.hint}`}
            </span>
            <span className="text-secondary">The last valid version is active.</span>
          </li>
        ))}
        <li className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1 text-row">
          <span className="text-secondary">Plugged something in, and it is not here?</span>
          <Link to="/unseen" className="press-link">
            Find out why it does not show up
          </Link>
        </li>
        <li className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1 text-row">
          <span className="text-secondary">Has it no data port?</span>
          <AddDevice />
        </li>
      </ul>
    </section>
  );
}
