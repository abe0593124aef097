import { Eye, SquareDashed } from "lucide-react";
import { useStrange } from "../api/queries";

/** What is seen on a bus but has no row, with how we know. */
export function Shelf() {
  const strange = useStrange();
  if (!strange.data?.items.length) return null;
  return (
    <section aria-label="Seen, but not known" className="-mx-5 mt-6 bg-base-200 px-5 py-3 md:-mx-8 md:px-8">
      <ul>
        {strange.data.items.map((s) => (
          <li key={s.host + s.port} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1 text-row">
            <span className="flex items-center gap-2.5">
              <SquareDashed size={16} strokeWidth={1.5} aria-hidden="true" className="text-secondary" />
              <b className="font-semibold">something</b>
              <span className="text-caption text-secondary">not known</span>
            </span>
            <span className="flex items-center gap-2">
              <Eye size={14} strokeWidth={1.5} aria-hidden="true" className="text-(--road)" />
              <span>
                <span className="mono">{s.usb}</span> on {s.port} of {s.host}: {s.interfaces.join(", ")}
              </span>
            </span>
            <span className="ml-auto">No prep sheet fits it</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
