import type { Field } from "./Fields";

type Part = { id: string; name: string; count: number; changed: number };

/** The parts of the sheet at its side; each says how many of its fields were changed. */
export function Index({
  sections,
  shown,
  exceptions,
}: {
  sections: string[];
  shown: Field[];
  exceptions: number;
}) {
  const parts: Part[] = sections.map((name) => {
    const mine = shown.filter((f) => f.section === name);
    return {
      id: `section-${name}`,
      name,
      count: mine.length,
      changed: mine.filter((f) => f.winner !== "default" || f.differs).length,
    };
  });
  parts.push({ id: "section-exceptions", name: "exceptions", count: 1, changed: exceptions });
  parts.push({ id: "section-shaders", name: "shaders", count: 1, changed: 0 });
  return (
    <nav aria-label="Sections" className="sticky top-3 self-start">
      <ul>
        {parts.map((p) => (
          <li key={p.id} className="border-b hair">
            <a
              href={`#${p.id}`}
              className={`flex justify-between gap-2 py-[5px] ${p.count ? "" : "second"}`}
              onClick={(e) => {
                e.preventDefault();
                document.getElementById(p.id)?.scrollIntoView({ block: "start" });
              }}
            >
              <span className={p.changed ? "font-semibold" : ""}>{p.name}</span>
              <span className="num second">{p.changed > 0 ? `${p.changed} set` : ""}</span>
            </a>
          </li>
        ))}
      </ul>
    </nav>
  );
}
