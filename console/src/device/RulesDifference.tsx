const tone = (line: string) => {
  if (line.startsWith("+")) return "bg-success/10";
  return line.startsWith("-") ? "bg-error/10" : "text-secondary";
};

/** What installing a driver set changes in the rules file of the bench's computer. */
export function RulesDifference({ text }: { text: string }) {
  return (
    <pre
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex
      tabIndex={0}
      aria-label="Difference of the rules file"
      className="mono max-h-48 overflow-auto rounded-lg bg-base-200 p-2 text-caption"
    >
      {text.split("\n").map((line, i) => (
        <span key={i} className={`block ${tone(line)}`}>
          {line || " "}
        </span>
      ))}
    </pre>
  );
}
