import {
  Bar,
  CartesianGrid,
  ComposedChart,
  Line,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from "recharts";

/** One thing that is drawn of every day. */
export interface Series {
  key: string;
  name: string;
  color: string;
  /** Bars stand on one another. */
  as: "bar" | "line" | "dashes";
  /** Against the right axis. */
  right?: boolean;
}

/** What a day comes to, by the keys of the series; null where there is nothing to draw. */
export type Day = { day: string } & Record<string, number | string | null>;

/** Days side by side, each with its bars, and lines over them. */
export function DayChart({
  label,
  days,
  series,
  left = String,
  right,
  top,
  low = false,
}: {
  label: string;
  days: Day[];
  series: Series[];
  left?: (n: number) => string;
  /** How values of the right axis are written; without it there is none. */
  right?: (n: number) => string;
  /** The highest value of the right axis. */
  top?: number;
  low?: boolean;
}) {
  const written = (key: string, n: number) =>
    (series.find((s) => s.key === key)?.right ? (right ?? left) : left)(n);
  return (
    <div className={`${low ? "h-44" : "h-64"} px-2 py-3`} role="img" aria-label={label}>
      <ResponsiveContainer width="100%" height="100%">
        <ComposedChart
          data={days.map((d) => ({ ...d, day: d.day.slice(5) }))}
          margin={{ left: 0, right: 0, top: 6, bottom: 0 }}
        >
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="day" stroke="var(--soft)" tickLine={false} fontSize={11} />
          <YAxis
            yAxisId="left"
            stroke="var(--soft)"
            tickLine={false}
            fontSize={11}
            width={56}
            tickFormatter={left}
          />
          {right && (
            <YAxis
              yAxisId="right"
              orientation="right"
              stroke="var(--soft)"
              tickLine={false}
              fontSize={11}
              width={52}
              domain={[0, top ?? "auto"]}
              tickFormatter={right}
            />
          )}
          <Tooltip
            contentStyle={{
              background: "var(--raised)",
              border: "1px solid var(--line)",
              color: "var(--ink)",
              fontSize: 12,
            }}
            formatter={(v, name) => [
              written(String(name), Number(v)),
              series.find((s) => s.key === name)?.name ?? name,
            ]}
            cursor={{ fill: "var(--raised)" }}
          />
          {series.map((s) =>
            s.as === "bar" ? (
              <Bar
                key={s.key}
                dataKey={s.key}
                stackId="one"
                yAxisId={s.right ? "right" : "left"}
                fill={s.color}
                maxBarSize={44}
                isAnimationActive={false}
              />
            ) : (
              <Line
                key={s.key}
                dataKey={s.key}
                yAxisId={s.right ? "right" : "left"}
                stroke={s.color}
                {...(s.as === "dashes" && { strokeDasharray: "3 3" })}
                dot={{ r: 2.5, fill: s.color }}
                isAnimationActive={false}
                connectNulls
              />
            ),
          )}
        </ComposedChart>
      </ResponsiveContainer>
    </div>
  );
}
