import { useEffect, useState } from "react";
import { Field } from "./parts";

/** Keeps what is typed and hands it on when the typing pauses: the address is too slow for single letters. */
export function Search({
  text,
  onText,
  label,
  size = 36,
}: {
  text: string;
  onText: (v: string) => void;
  label: string;
  size?: number;
}) {
  const [typed, setTyped] = useState(text);
  useEffect(() => {
    if (typed === text) return;
    const pause = setTimeout(() => {
      onText(typed.trim());
    }, 200);
    return () => {
      clearTimeout(pause);
    };
    // Only typing hands a text on; a new onText is made with every render.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [typed]);
  return (
    <Field
      label={label}
      size={size}
      value={typed}
      onChange={(e) => {
        setTyped(e.target.value);
      }}
    />
  );
}
