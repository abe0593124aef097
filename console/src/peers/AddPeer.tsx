import { useState } from "react";
import { useAddPeer, useMeetPeer } from "../api/peers";
import type { Invitation, PeerMeeting } from "../api/types";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";
import { MeetingForm } from "./MeetingForm";

/** Makes this bench a peer of another one: by the file of its invitation, or by three words. */
export function AddPeer({ meeting }: { meeting: PeerMeeting | null | undefined }) {
  const [address, setAddress] = useState("");
  const add = useAddPeer();
  const meet = useMeetPeer();
  const [wrong, setWrong] = useState("");
  const take = async (file: File | undefined) => {
    if (!file) return;
    try {
      const invitation = JSON.parse(await file.text()) as Invitation;
      setWrong("");
      add.mutate(invitation);
    } catch {
      setWrong(`${file.name} is not an invitation from a bench.`);
    }
  };
  if (meeting?.state === "words" || meeting?.state === "asked") return <MeetingForm meeting={meeting} />;
  return (
    <div className="mt-3 space-y-2">
      <label className="block text-row">
        Invitation file
        <input
          type="file"
          className="file-input file-input-sm mt-0.5 block w-full max-w-md"
          onChange={(e) => void take(e.target.files?.[0])}
        />
      </label>
      <form
        aria-label="Be introduced to another bench"
        onSubmit={(e) => {
          e.preventDefault();
          meet.mutate(address);
        }}
      >
        <Field
          label="Or the address of another bench"
          hint="such as harbour.example:7421; it shows three words, which you type here"
          value={address}
          onChange={setAddress}
        />
        <button type="submit" className="press press-small mt-2" disabled={meet.isPending || address.trim() === ""}>
          Be introduced
        </button>
      </form>
      {meeting?.state === "failed" && (
        <p role="alert" className="text-row">
          {meeting.name} did not become a peer. {meeting.why}
        </p>
      )}
      {wrong && (
        <p role="alert" className="text-row">
          {wrong}
        </p>
      )}
      <ProblemText error={add.error ?? meet.error} />
    </div>
  );
}
