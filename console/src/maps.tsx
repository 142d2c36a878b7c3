// Panels of places: points on a plane with what is drawn below them, and the countries of the world.
import { geoNaturalEarth1, geoPath } from "d3-geo";
import type { Feature, FeatureCollection } from "geojson";
import { alpha3ToAlpha2, numericToAlpha2 } from "i18n-iso-countries";
import { memo, useEffect, useMemo, useState } from "react";
import { feature } from "topojson-client";
import type { GeometryCollection, Topology } from "topojson-specification";
import atlas from "world-atlas/countries-50m.json?url";
import { Fault, Scroll } from "./parts";
import { Mark, said, shade, type Drawn } from "./panels";
import { bars, outstanding, places } from "./standing";
import { say } from "./i18n";

const wide = 600,
  high = 360,
  edge = 34;

export const PlacesPanel = memo(function PlacesPanel({ panel, rows }: Drawn) {
  const list = places(panel, rows);
  if (list.length === 0) return <p className="p-4 text-center text-soft">{say("No places yet.")}</p>;
  const outline = panel.outline ?? [];
  const all = [...outline, ...list];
  const [left, right] = [Math.min(...all.map((p) => p.across)), Math.max(...all.map((p) => p.across))];
  const [low, top] = [Math.min(...all.map((p) => p.up)), Math.max(...all.map((p) => p.up))];
  const x = (v: number) => (right > left ? edge + ((v - left) / (right - left)) * (wide - 2 * edge) : wide / 2);
  const y = (v: number) => (top > low ? high - edge - ((v - low) / (top - low)) * (high - 2 * edge) : high / 2);
  const values = list.map((p) => p.value).filter((v) => v !== null);
  const most = Math.max(1e-9, ...values.map(Math.abs));
  const shown = list.slice(0, 500);
  const size = (v: number | null) => (v === null ? 5 : 4 + 14 * Math.sqrt(Math.abs(v) / most));
  // A name stands above its point, or below it, or not at all, so that no two lie on one another.
  const named: { left: number; right: number; y: number }[] = [];
  const words = (p: (typeof shown)[number]) => `${p.label}${p.value === null ? "" : ` ${said(p.value)}`}`;
  const name = (p: (typeof shown)[number]) => {
    const long = (words(p).length + 2) * 7;
    const left = Math.max(2, Math.min(wide - long - 2, x(p.across) - long / 2));
    for (const at of [y(p.up) - size(p.value) - 3, y(p.up) + size(p.value) + 12]) {
      if (at < 12 || at > high - 4) continue;
      if (named.some((n) => Math.abs(n.y - at) < 12 && n.left < left + long && left < n.right)) continue;
      named.push({ left, right: left + long, y: at });
      return { x: left + long / 2, y: at };
    }
    return undefined;
  };
  return (
    <div className="flex h-full flex-col p-2 text-xs">
      <svg viewBox={`0 0 ${wide} ${high}`} className="min-h-0 w-full flex-1" aria-hidden="true" data-testid="places">
        {outline.length > 1 && (
          <polyline
            points={outline.map((p) => `${x(p.across)},${y(p.up)}`).join(" ")}
            fill="none"
            strokeWidth="5"
            strokeLinejoin="round"
            strokeLinecap="round"
            style={{ stroke: "var(--color-line)" }}
          />
        )}
        {shown.map((p) => {
          const how = outstanding(panel, p.value);
          const at = shown.length <= 40 ? name(p) : undefined;
          return (
            <g key={p.label}>
              <circle
                cx={x(p.across)}
                cy={y(p.up)}
                r={size(p.value)}
                fillOpacity="0.75"
                strokeWidth="1.5"
                style={{
                  fill: how ? "var(--color-clay)" : "var(--color-river)",
                  stroke: "var(--color-sheet)",
                }}
              >
                <title>
                  {p.label}
                  {p.value === null ? "" : `: ${said(p.value)} ${panel.unit ?? ""}`}
                </title>
              </circle>
              {at && (
                <text
                  x={at.x}
                  y={at.y}
                  textAnchor="middle"
                  fontSize="12"
                  style={{
                    fill: "var(--color-ink)",
                    paintOrder: "stroke",
                    stroke: "var(--color-sheet)",
                    strokeWidth: 3,
                  }}
                >
                  {words(p)}
                  {how ? (how === "above" ? " ▲" : " ▼") : ""}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      <p className="shrink-0 text-soft">
        {values.length > 0 && `the larger a circle, the larger its number, up to ${said(most)} ${panel.unit ?? ""}`}
        {list.length > shown.length && ` ${list.length - shown.length} more are not drawn.`}
      </p>
    </div>
  );
});

/** The code of two letters of a code of two or three; undefined: there is no such country. */
const two = (code: string) => (code.length === 3 ? alpha3ToAlpha2(code.toUpperCase()) : code.toUpperCase());

let countries: Promise<Feature[]> | undefined;

/** The countries of the world, each with its code of two letters as its id. */
function world(): Promise<Feature[]> {
  countries ??= fetch(atlas)
    .then((r) => r.json() as Promise<Topology<{ countries: GeometryCollection }>>)
    .then((t) => {
      const all = feature(t, t.objects.countries) as FeatureCollection;
      return all.features.map((f) => ({ ...f, id: numericToAlpha2(String(f.id)) }));
    })
    .catch((e: unknown) => {
      countries = undefined; // somebody may try again
      throw e;
    });
  return countries;
}

const projection = geoNaturalEarth1().fitExtent(
  [
    [2, 2],
    [wide - 2, high - 2],
  ],
  { type: "Sphere" },
);
const path = geoPath(projection).digits(1);

export const AreasPanel = memo(function AreasPanel({ panel, rows }: Drawn) {
  const [land, setLand] = useState<{ code: string; name: string; d: string }[]>();
  const [fault, setFault] = useState("");
  useEffect(() => {
    let here = true;
    world().then(
      (all) => {
        if (here)
          setLand(
            all.map((f, i) => ({
              code: String(f.id ?? `-${i}`),
              name: String(f.properties?.["name"] ?? ""),
              d: path(f) ?? "",
            })),
          );
      },
      () => here && setFault("The map of the world could not be fetched."),
    );
    return () => {
      here = false;
    };
  }, []);
  const { values, list, unknown } = useMemo(() => {
    const values = new Map<string, number>();
    const list = bars(panel, rows);
    const unknown: string[] = [];
    const known = new Set(land?.map((l) => l.code));
    for (const [code, v] of list) {
      const c = two(code);
      if (c && (!land || known.has(c))) values.set(c, v);
      else unknown.push(code);
    }
    return { values, list, unknown };
  }, [panel, rows, land]);
  if (fault) return <Fault>{fault}</Fault>;
  if (!land) return <p className="p-4 text-soft">{say("Drawing …")}</p>;
  const all = [...values.values()];
  const low = Math.min(...all),
    most = Math.max(...all);
  const share = (v: number) => (most > low ? (v - low) / (most - low) : 1);
  const name = (code: string) => land.find((l) => l.code === two(code))?.name ?? code;
  return (
    <div className="flex h-full gap-2 p-2 text-xs">
      <div className="flex min-w-0 flex-1 flex-col">
        <svg viewBox={`0 0 ${wide} ${high}`} className="min-h-0 w-full flex-1" aria-hidden="true" data-testid="world">
          {land.map((l) => {
            const v = values.get(l.code);
            return (
              <path
                key={l.code}
                d={l.d}
                data-code={v === undefined ? undefined : l.code}
                strokeWidth="0.4"
                style={{ fill: v === undefined ? "var(--color-paper)" : shade(share(v)), stroke: "var(--color-soft)" }}
              >
                <title>{v === undefined ? l.name : `${l.name}: ${said(v)} ${panel.unit ?? ""}`}</title>
              </path>
            );
          })}
        </svg>
        {all.length > 0 && (
          <p className="flex shrink-0 items-center gap-2 text-soft">
            {said(low)}
            <span
              className="inline-block h-2 w-24"
              aria-hidden="true"
              style={{ background: `linear-gradient(to right, ${shade(0)}, ${shade(1)})` }}
            />
            {said(most)} {panel.unit}
            {unknown.length > 0 && (
              <span>{say("; no country on the map: {{0}}", { 0: unknown.slice(0, 8).join(", ") })}</span>
            )}
          </p>
        )}
      </div>
      <Scroll className="max-h-full w-32 shrink-0">
        <dl className="grid grid-cols-[1fr_max-content] gap-x-2">
          {list.slice(0, 30).map(([code, v]) => (
            <div key={code} className="contents">
              <dt className="truncate">{name(code)}</dt>
              <dd className="tabular-nums">
                {said(v)}
                <Mark how={outstanding(panel, v)} />
              </dd>
            </div>
          ))}
        </dl>
      </Scroll>
    </div>
  );
});
