import { Box, HStack, Text } from '@chakra-ui/react';
import { type KeyboardEvent, type PointerEvent, useRef, useState } from 'react';
import type { PolicySetting } from '../api/client';
import { isAbove, type Values } from './policy';

// The ladder of audiences, narrowest first: how far from the middle each is, and how one of its people is called.
const ladder = [
  { value: 'nobody', radius: 12, who: 'Nobody' },
  { value: 'owners', radius: 52, who: 'An owner' },
  { value: 'moderators', radius: 88, who: 'A moderator' },
  { value: 'members', radius: 124, who: 'A member' },
  { value: 'workspace', radius: 160, who: 'A colleague' },
  { value: 'anyone', radius: 196, who: 'A stranger' },
] as const;

const rungOf = (audience: string | undefined) =>
  Math.max(
    ladder.findIndex((l) => l.value === audience),
    0,
  );
const radiusOf = (rung: number) => ladder[rung]?.radius ?? 0;

/** ends are those of a short line across a spoke, at a distance from the middle. */
const ends = (angle: number, radius: number) => {
  const [x, y] = [280 + Math.cos(angle) * radius, 225 + Math.sin(angle) * radius];
  const [dx, dy] = [-Math.sin(angle) * 15, Math.cos(angle) * 15];
  return { x1: x - dx, y1: y - dy, x2: x + dx, y2: y + dy };
};

/**
 * Rings draw who a policy reaches: the owners in the middle, around them moderators, members, the workspace and the
 * internet. What it decides is a mark on the outermost ring that it reaches, moved by pointer and arrow keys.
 */
export function Rings(props: {
  settings: PolicySetting[];
  values: Values;
  was: Values;
  onValue: (name: string, value: string) => void;
  disabled?: boolean;
}) {
  const marks = props.settings.filter((s) => s.short);
  const picture = useRef<SVGSVGElement>(null);
  const [held, setHeld] = useState<{ name: string; value: string } | null>(null);
  const [pointed, setPointed] = useState<number | null>(null);

  const choicesOf = (s: PolicySetting) =>
    ladder
      .map((l, rung) => ({ ...l, rung }))
      .filter((l) => s.choices.some((c) => c.value === l.value) && !isAbove(s, l.value));
  const valueOf = (s: PolicySetting) => (held?.name === s.name ? held.value : (props.values[s.name] ?? s.value));

  /** How far from the middle a pointer is, in units of the drawing. */
  const distance = (e: PointerEvent) => {
    const box = picture.current?.getBoundingClientRect();
    if (!box) return 0;
    const unit = 560 / box.width;
    return Math.hypot((e.clientX - box.left) * unit - 280, (e.clientY - box.top) * unit - 225);
  };
  const nearest = (s: PolicySetting, e: PointerEvent) => {
    const d = distance(e);
    const [best] = choicesOf(s).sort((a, b) => Math.abs(a.radius - d) - Math.abs(b.radius - d));
    return best?.value ?? s.value;
  };
  const byKey = (s: PolicySetting) => (e: KeyboardEvent) => {
    const all = choicesOf(s);
    const at = all.findIndex((c) => c.value === valueOf(s));
    const to = {
      ArrowUp: at + 1,
      ArrowRight: at + 1,
      ArrowDown: at - 1,
      ArrowLeft: at - 1,
      Home: 0,
      End: all.length - 1,
    }[e.key];
    if (to === undefined || props.disabled) return;
    e.preventDefault();
    const next = all[Math.min(Math.max(to, 0), all.length - 1)];
    if (next && next.value !== valueOf(s)) props.onValue(s.name, next.value);
  };
  const can = (rung: number) => marks.filter((s) => rungOf(valueOf(s)) >= rung).map((s) => s.short);

  return (
    <Box>
      <svg
        ref={picture}
        className="rings"
        viewBox="-10 0 580 450"
        role="group"
        aria-label="How far each answer reaches"
        onPointerMove={(e) => {
          const d = distance(e);
          const rung = ladder.findIndex((l, i) => i > 0 && d <= l.radius + 4);
          setPointed(held || rung < 0 ? null : rung);
        }}
        onPointerLeave={() => setPointed(null)}
      >
        {[...ladder].reverse().map((l) => {
          const rung = rungOf(l.value);
          return rung === 0 ? null : (
            <circle
              key={l.value}
              cx="280"
              cy="225"
              r={l.radius}
              className={pointed === rung ? 'ring pointed' : 'ring'}
              data-rung={rung}
            />
          );
        })}
        {marks.map((s, i) => {
          // The first stands beside the names of the rings, which are at the top.
          const angle = ((i + 0.5) / marks.length) * 2 * Math.PI - Math.PI / 2;
          const at = (radius: number) => ({ x: 280 + Math.cos(angle) * radius, y: 225 + Math.sin(angle) * radius });
          const value = valueOf(s);
          const here = at(radiusOf(rungOf(value)));
          const before = props.was[s.name];
          const there = before !== undefined && before !== value ? at(radiusOf(rungOf(before))) : null;
          const rim = at(196);
          const name = at(215);
          const all = choicesOf(s);
          return (
            <g key={s.name}>
              <line x1="280" y1="225" x2={rim.x} y2={rim.y} className="spoke" />
              <line x1="280" y1="225" x2={here.x} y2={here.y} className="reach" />
              {s.ceiling && (
                <line
                  {...ends(angle, (radiusOf(rungOf(s.ceiling.at_most)) + radiusOf(rungOf(s.ceiling.at_most) + 1)) / 2)}
                  className="ceiling"
                >
                  <title>{`At most ${s.ceiling.at_most}, set by ${s.ceiling.set_by}. ${s.ceiling.reason}`}</title>
                </line>
              )}
              {there && <circle cx={there.x} cy={there.y} r="7" className="before" />}
              <text
                x={name.x}
                y={name.y + 4}
                className="mark-name"
                textAnchor={Math.abs(Math.cos(angle)) < 0.2 ? 'middle' : Math.cos(angle) > 0 ? 'start' : 'end'}
              >
                {s.short}
              </text>
              <circle
                cx={here.x}
                cy={here.y}
                r="9"
                className={there ? 'mark changed' : 'mark'}
                role="slider"
                tabIndex={0}
                aria-label={s.asks}
                aria-valuemin={0}
                aria-valuemax={all.length - 1}
                aria-valuenow={all.findIndex((c) => c.value === value)}
                aria-valuetext={s.choices.find((c) => c.value === value)?.label ?? value}
                aria-disabled={props.disabled ?? false}
                onKeyDown={byKey(s)}
                onPointerDown={(e) => {
                  if (props.disabled) return;
                  e.currentTarget.setPointerCapture(e.pointerId);
                  setHeld({ name: s.name, value });
                }}
                onPointerMove={(e) => held?.name === s.name && setHeld({ name: s.name, value: nearest(s, e) })}
                onPointerUp={() => {
                  if (held && held.value !== props.values[s.name]) props.onValue(held.name, held.value);
                  setHeld(null);
                }}
                onPointerCancel={() => setHeld(null)}
              />
            </g>
          );
        })}
        {ladder.slice(1).map((l) => (
          <text key={l.value} x="280" y={225 - l.radius + 13} className="ring-name" pointerEvents="none">
            {l.value === 'anyone' ? 'internet' : l.value}
          </text>
        ))}
      </svg>
      <HStack wrap="wrap" gap="1" justify="center" className="ring-keys">
        {ladder.slice(1).map((l) => (
          <button
            key={l.value}
            type="button"
            aria-pressed={pointed === rungOf(l.value)}
            onFocus={() => setPointed(rungOf(l.value))}
            onBlur={() => setPointed(null)}
            onPointerEnter={() => setPointed(rungOf(l.value))}
            onPointerLeave={() => setPointed(null)}
          >
            {l.who}
          </button>
        ))}
      </HStack>
      <Text fontSize="sm" minH="3rem" mt="2" textAlign="center" color="fg.muted" aria-live="polite">
        {pointed === null
          ? 'Point at a ring to see what somebody there can do. Move a mark outwards to let more people do it.'
          : can(pointed).length > 0
            ? `${ladder[pointed]?.who} can ${can(pointed).join(', ')}.`
            : `${ladder[pointed]?.who} can do nothing here.`}
      </Text>
    </Box>
  );
}
