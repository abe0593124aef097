import type { InputHTMLAttributes } from "react";

type Props = Omit<InputHTMLAttributes<HTMLInputElement>, "onChange"> & {
  label: string;
  hint?: string;
  onChange: (value: string) => void;
};

/** A line of a form: what is wanted, the input, an example. */
export function Field({ label, hint, onChange, ...input }: Props) {
  return (
    <label className="block text-row">
      {label}
      <input
        className="input input-sm mt-0.5 block w-full max-w-md"
        autoComplete="off"
        spellCheck={false}
        {...input}
        onChange={(e) => onChange(e.target.value)}
      />
      {hint && <span className="block text-caption text-secondary">{hint}</span>}
    </label>
  );
}
