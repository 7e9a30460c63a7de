/** A day to begin or end a search with. */
export function Day({
  word,
  value,
  onChange,
}: {
  word: string;
  value: string;
  onChange: (v: string) => void;
}) {
  return (
    <label className="flex items-center gap-1.5 text-sm text-soft">
      {word}
      <input
        type="date"
        value={value}
        onChange={(e) => {
          onChange(e.target.value);
        }}
        className="rounded border border-line bg-sheet px-2 py-1 text-ink"
      />
    </label>
  );
}
