const words: Record<string, string> = {
  pass: "pass",
  fail: "fail",
  error: "error",
  skip: "skip",
  none: "not decided",
  running: "running",
  flaky: "flaky",
  recovered: "pass after an error",
};

export function verdictWords(verdict: string, flaky = false, running = false, recovered = false): string {
  if (running) return "running";
  if (recovered && !flaky) return words.recovered!;
  return flaky ? `flaky, now ${words[verdict]}` : (words[verdict] ?? verdict);
}

type Props = { of: string; flaky?: boolean; recovered?: boolean; running?: boolean; silent?: boolean };

/** A verdict's shape. Silent where the words stand beside it. */
export function Shape({ of, flaky = false, recovered = false, running = false, silent = false }: Props) {
  const shape = running ? "running" : flaky ? "flaky" : recovered ? "recovered" : of;
  if (silent) return <span className={`verdict verdict-${shape}`} aria-hidden="true" />;
  return (
    <span className={`verdict verdict-${shape}`} role="img" aria-label={verdictWords(of, flaky, running, recovered)} />
  );
}

/** A shape with its word, in the verdict's ink. */
export function VerdictWord({ of, flaky, recovered, running, word }: Props & { word?: string }) {
  const ink = running
    ? ""
    : of === "fail" || flaky
      ? "text-vermilion"
      : of === "error" || recovered
        ? "text-petrol"
        : of === "skip" || of === "none"
          ? "text-faint"
          : "";
  return (
    <span className={`inline-flex items-center gap-1.5 whitespace-nowrap ${ink}`}>
      <Shape of={of} flaky={flaky} recovered={recovered} running={running} silent />
      {word ?? verdictWords(of, flaky, running, recovered)}
    </span>
  );
}
