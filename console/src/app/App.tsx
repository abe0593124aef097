import { Route, Routes, useMatch } from "react-router";
import { useEvents } from "../api/events";
import { Problem, useBench } from "../api/queries";
import { BenchPage } from "../bench/BenchPage";
import { ComputerPage } from "../computer/ComputerPage";
import { DevicePage } from "../device/DevicePage";
import { PhonePage } from "../device/PhonePage";
import { EndingsPage } from "../endings/EndingsPage";
import { KeysPage } from "../keys/KeysPage";
import { HandoverPage } from "../peers/HandoverPage";
import { NearPage } from "../peers/NearPage";
import { PersonPage } from "../peers/PersonPage";
import { RackPage } from "../rack/RackPage";
import { RoundPage } from "../rack/RoundPage";
import { UnseenPage } from "../why/UnseenPage";
import { Header } from "./Header";
import { SignIn } from "./SignIn";

export function App() {
  const bench = useBench();
  const phone = useMatch("/phone/:handle");
  const near = useMatch("/near/:id");
  const handover = useMatch("/handover");
  const person = useMatch("/for/:name");
  const quiet = near ?? handover; // who gets no events
  const live = useEvents(quiet ? undefined : bench.data?.sequence);
  if (bench.error instanceof Problem && bench.error.status === 401) return <SignIn />;
  if ((phone || quiet || person) && bench.data) return <OnePage />;
  if (!bench.data) return <p className="p-8 text-secondary">Asking the bench…</p>;
  return (
    <>
      <Header live={live} />
      <Routes>
        <Route path="/" element={<RackPage />} />
        <Route path="/round" element={<RoundPage />} />
        <Route path="/devices/:handle" element={<DevicePage />} />
        <Route path="/computer" element={<ComputerPage />} />
        <Route path="/keys" element={<KeysPage />} />
        <Route path="/endings" element={<EndingsPage />} />
        <Route path="/bench" element={<BenchPage />} />
        <Route path="/unseen" element={<UnseenPage />} />
        <Route
          path="*"
          element={<p className="p-8">There is no page at this address. The rack is under Rack, above.</p>}
        />
      </Routes>
    </>
  );
}

/** A phone beside a device, and the browser of somebody who has no bench, have one page, without a way to others. */
const OnePage = () => (
  <Routes>
    <Route path="/phone/:handle" element={<PhonePage />} />
    <Route path="/near/:id" element={<NearPage />} />
    <Route path="/handover" element={<HandoverPage />} />
    <Route path="/for/:name" element={<PersonPage />} />
  </Routes>
);
