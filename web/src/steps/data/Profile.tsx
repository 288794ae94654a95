/** A column's small drawn profile: its histogram, or its most frequent values. */
import type { Schemas } from "../../api/client";
import { count, figures } from "../../ui/units";

const W = 128;
const H = 26;

export function Profile({ profile, narrow }: { profile: Schemas["Profile"]; narrow?: boolean }) {
  const missing = profile.nulls / Math.max(1, profile.rows);
  return (
    <span className={narrow ? "profile narrow" : "profile"}>
      {profile.histogram ? (
        <Bars counts={profile.histogram.counts} label={`Histogram of ${profile.name}`} />
      ) : (
        <Top profile={profile} />
      )}
      <span className="ends small faint">
        {profile.histogram ? (
          <>
            {profile.smallest !== null && `${short(profile.smallest)} to ${short(profile.largest)}`}
          </>
        ) : (
          <>{count(profile.distinct)} different</>
        )}
        {missing > 0 && <span className="caution"> {figures(missing * 100, 2)} % missing</span>}
      </span>
    </span>
  );
}

function short(text: string | null): string {
  if (text === null) return "";
  const day = /^(\d{4}-\d{2}-\d{2})[ T]/.exec(text);
  if (day?.[1]) return day[1];
  return /^-?\d+$/.test(text) ? count(Number(text)) : text;
}

function Bars({ counts, label }: { counts: number[]; label: string }) {
  const most = Math.max(1, ...counts);
  const step = W / counts.length;
  return (
    <svg
      width={W}
      height={H}
      viewBox={`0 0 ${W} ${H}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
    >
      {counts.map((n, i) => (
        <rect
          key={i}
          x={i * step}
          width={step - 1}
          y={H - (n / most) * H}
          height={(n / most) * H}
          fill="var(--ink-3)"
        />
      ))}
    </svg>
  );
}

function Top({ profile }: { profile: Schemas["Profile"] }) {
  const known = Math.max(1, profile.rows - profile.nulls);
  const shares = (profile.top ?? []).map((top) => ({ ...top, share: top.count / known }));
  const widths = shares.map(({ share }) => Math.max(2, share * W));
  const starts = widths.map((_, i) => widths.slice(0, i).reduce((sum, w) => sum + w, 0));
  return (
    <svg
      width={W}
      height={H}
      viewBox={`0 0 ${W} ${H}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`Most frequent values of ${profile.name}`}
    >
      <rect y={8} width={W} height={11} fill="var(--line-2)" />
      {shares.map(({ value, share }, i) => (
        <g key={value}>
          <rect
            x={starts[i]}
            y={8}
            width={Math.max(1, (widths[i] ?? 2) - 1)}
            height={11}
            fill="var(--ink-3)"
            opacity={1 - i * 0.12}
          />
          <title>{`${value}: ${figures(share * 100, 2)} %`}</title>
        </g>
      ))}
    </svg>
  );
}
