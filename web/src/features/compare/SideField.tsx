import { useId, useState } from "react";
import type { KnownSide } from "../../api/client";

/** One side of a comparison, in words, with what is known to choose from. */
export function SideField({
  label,
  value,
  known,
  hint,
  onSet,
}: {
  label: string;
  value: string;
  known: KnownSide[];
  hint: string;
  onSet: (words: string) => void;
}) {
  const list = useId();
  const [typed, setTyped] = useState<string | null>(null);
  const set = (words: string) => {
    setTyped(null);
    if (words.trim() !== value) onSet(words.trim());
  };
  return (
    <form
      className="flex items-center gap-2 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        set(typed ?? value);
      }}
    >
      <label className="flex items-center gap-2">
        <span className="text-soft">{label}</span>
        <input
          className="w-72 rounded border border-line bg-sheet px-2.5 py-1.5 font-mono text-xs placeholder:text-soft"
          list={list}
          placeholder={hint}
          value={typed ?? value}
          onChange={(e) => {
            const words = e.target.value;
            if (known.some((k) => k.words === words)) set(words);
            else setTyped(words);
          }}
          onBlur={() => {
            if (typed !== null) set(typed);
          }}
        />
      </label>
      <datalist id={list}>
        {known.map((k) => (
          <option key={k.words} value={k.words}>
            {k.about}
          </option>
        ))}
      </datalist>
    </form>
  );
}
