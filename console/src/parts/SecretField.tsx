import { useId } from "react";

type Props = {
  label: string;
  /** Whose secret it is not, in a few words. */
  not?: string;
  value: string;
  onChange: (value: string) => void;
};

/** A secret, of which only that it arrives is seen: a dot for each character, and their number. */
export function SecretField({ label, not, value, onChange }: Props) {
  const id = useId();
  return (
    <div className="text-row">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      {not && <span className="ml-2 text-caption text-secondary">{not}</span>}
      <span className="input mt-1 flex w-full max-w-md items-center gap-3">
        <input
          id={id}
          type="password"
          className="min-w-0 flex-1"
          autoComplete="off"
          value={value}
          onChange={(e) => onChange(e.target.value)}
        />
        <span className="text-caption text-secondary" aria-live="polite">
          {[...value].length} typed
        </span>
      </span>
    </div>
  );
}
