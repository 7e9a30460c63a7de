import { Toggle } from "../../ui/parts";

const wishes: [string, string][] = [
  ["failed", "runs that failed, or that the lab failed"],
  ["changed", "runs that came to another verdict than the run before"],
  ["ended", "every run"],
  ["daily", "once a day, what became of the day before"],
];

/** Of what somebody wants to hear. */
export function Wishes({ of, onChange }: { of: string[]; onChange: (of: string[]) => void }) {
  return (
    <div role="group" aria-label="Hears of" className="flex flex-wrap gap-2">
      {wishes.map(([name, what]) => (
        <Toggle
          key={name}
          extra
          on={of.includes(name)}
          hint={what}
          onChange={(on) => {
            onChange(on ? [...of, name] : of.filter((o) => o !== name));
          }}
        >
          {what}
        </Toggle>
      ))}
    </div>
  );
}
