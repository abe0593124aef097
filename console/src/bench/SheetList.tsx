import { useDropSheet, useOwner } from "../api/owner";
import { useSheets } from "../api/queries";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { SheetEditor } from "../parts/SheetEditor";
import { headerText } from "../parts/time";

/** The prep sheets: how many are active, which lie beside the bench, and edits that are not active. */
export function SheetList() {
  const sheets = useSheets();
  const owner = useOwner();
  const drop = useDropSheet();
  const own = sheets.data?.items.filter((s) => s.own) ?? [];
  const families = new Set(sheets.data?.items.map((s) => s.family));
  return (
    <section aria-label="Prep sheets" className="mt-8">
      <h2 className="text-section font-semibold">Prep sheets</h2>
      <ProblemText error={sheets.error ?? drop.error} />
      {sheets.data && (
        <p className="mt-1 text-row">
          {sheets.data.items.length} models of {families.size} families are known.{" "}
          {own.length === 0 && <span className="text-secondary">All their sheets ship with Early Bench.</span>}
        </p>
      )}
      <ul>
        {own.map((s) => (
          <li key={s.sheet + s.code} className="py-1 text-row">
            <b className="font-semibold">{s.sheet}</b> {s.model}
            {s.taken && <span className="text-secondary"> is active since {headerText(s.taken)}</span>}
            <span className="mono block break-all text-secondary">{s.file}</span>
            {owner && (
              <button type="button" className="press press-small" onClick={() => drop.mutate(s.sheet)}>
                Drop {s.sheet}
              </button>
            )}
          </li>
        ))}
        {sheets.data?.trouble.map((m) => (
          <li key={m.file + m.line + m.text} className="py-1 text-row">
            <b className="font-semibold">An edit is not active:</b> {m.text}
            <span className="mono block break-all">
              {m.file}:{m.line}:{m.column}
            </span>
          </li>
        ))}
      </ul>
      <OwnerOnly what="Add a sheet" command="earlybench sheet add FILE">
        <SheetEditor start="" />
      </OwnerOnly>
    </section>
  );
}
