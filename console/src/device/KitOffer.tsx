import { useKits } from "../api/supply";
import { useChosenApp } from "../app/chosenApp";
import { UseCopy } from "../parts/UseCopy";

/** The copy of a kit with which the chosen app can be built, where another one was named. */
export function KitOffer() {
  const kits = useKits();
  const app = useChosenApp();
  for (const kit of kits.data?.items ?? []) {
    const need = kit.apps.find((n) => n.app === app);
    if (need && need.offer !== "")
      return (
        <div className="mt-5">
          <UseCopy kit={kit.name} path={need.offer} />
        </div>
      );
  }
  return null;
}
