import { useIntroduce, useIntroduction, useNetwork } from "../api/network";
import type { Device } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { whereText } from "../parts/where";
import { WordsForm } from "../parts/WordsForm";

/** Introduces a device that is heard: it shows three words, which you type here. */
export function IntroducePanel({ device }: { device: Device }) {
  const going = useIntroduction().data;
  const own = going && going.device === device.handle ? going : undefined;
  if (own?.state === "words") return <WordsForm going={own} name={device.handle} />;
  if (own?.state === "asking" || own?.state === "done")
    return (
      <p className="mt-5 font-semibold">
        The words are correct: nobody is in between. Let {own.bench} in on {device.handle}.
      </p>
    );
  return (
    <div className="mt-5">
      {own?.error && (
        <p role="alert" className="mb-3 max-w-prose rounded-lg bg-(--lamp-tint) px-3 py-2 text-row">
          {own.error.detail} {own.error.remedy}
        </p>
      )}
      <BeginButtons device={device} />
    </div>
  );
}

/** A button for each device that is heard and may be this one. */
function BeginButtons({ device }: { device: Device }) {
  const introduce = useIntroduce();
  const heard = useNetwork().data?.items.filter((e) => e.may_be.includes(device.handle));
  if (!heard) return null;
  return (
    <>
      {heard.length === 0 && (
        <p className="max-w-prose">
          Nothing that may be {device.handle} is heard on the network. It must be awake, and on one of this computer’s
          networks.
        </p>
      )}
      {heard.map((e) => (
        <p key={e.name} className="mb-2">
          <button
            type="button"
            className="press press-main"
            disabled={introduce.isPending}
            onClick={() => introduce.mutate({ name: e.name, device: device.handle })}
          >
            {heard.length === 1 ? `Introduce ${device.handle}` : `Introduce the one ${whereText(e)}`}
          </button>
          {heard.length === 1 && <span className="ml-3 text-caption text-secondary">heard {whereText(e)}</span>}
        </p>
      ))}
      <ProblemText error={introduce.error} />
    </>
  );
}
