// WalkMap: the pages of a walk as a map by sections, the worst first; one of them is opened, with its evidence.
import { useRef, useState, type RefObject } from "react"
import { Link } from "wouter"
import { useImage, type Walked, type WalkedPage } from "./api"
import { Mono, Word } from "./ui"

// kinds are what may be wrong, in words.
const kinds: Record<string, string> = {
  fails: "fails",
  php: "PHP says",
  "script-error": "script error",
  "broken-link": "broken link",
  "broken-file": "broken file",
  "request-fails": "request fails",
  "redirect-loop": "redirects in a circle",
  "plain-http": "plain http",
  "form-elsewhere": "sends elsewhere",
  "redirect-chain": "redirects on and on",
  slow: "slow",
  wide: "wider than a phone",
  "no-title": "no title",
  "same-title": "same title",
  "not-indexed": "not for search engines",
  accessibility: "accessibility",
}
const grave = ["fails", "php", "script-error", "broken-link", "broken-file", "request-fails", "redirect-loop"]

const shown = (path: string) => {
  try {
    return decodeURI(path)
  } catch {
    return path
  }
}

const tone = (p: WalkedPage) =>
  p.findings.length === 0 ? "well" : p.findings.some((f) => grave.includes(f.kind)) ? "grave" : "slight"
const tones = {
  grave: "border-fail bg-fail-wash text-fail",
  slight: "border-line-strong bg-wash text-ink",
  well: "border-line text-soft",
}
const marks = { grave: "✕", slight: "!", well: "✓" }

// sectionOf is the first part of a path, below which a site keeps what belongs together.
const sectionOf = (path: string) => /^\/[^/?]+\/(?=[^?])/.exec(path)?.[0] ?? "/"

export function WalkMap({ name, walked }: { name: string; walked: Walked }) {
  const [open, setOpen] = useState(walked.pages[0]?.path)
  const page = walked.pages.find((p) => p.path === open)
  const evidence = useRef<HTMLElement>(null)
  const show = (path: string) => {
    setOpen(path)
    setTimeout(() => evidence.current?.scrollIntoView({ block: "nearest" })) // on a phone, it is below the map
  }
  const sections = [...new Set(walked.pages.map((p) => sectionOf(p.path)))]
  return (
    <>
      {walked.common.length > 0 && <Common walked={walked} open={show} />}
      <div className="mt-4 grid items-start gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <nav aria-label="Pages, the worst first">
          {sections.map((section) => (
            <section key={section} className="border-t border-line py-2">
              <h2 className="font-mono text-[13px] text-soft">{section}</h2>
              <ul className="mt-1 flex flex-wrap gap-1">
                {walked.pages
                  .filter((p) => sectionOf(p.path) === section)
                  .map((p) => (
                    <Tile
                      key={p.path}
                      page={p}
                      label={p.path === section ? "/" : p.path.slice(section.length)}
                      open={p === page}
                      onOpen={() => show(p.path)}
                    />
                  ))}
              </ul>
            </section>
          ))}
        </nav>
        {page && <Evidence at={evidence} name={name} walked={walked} page={page} />}
      </div>
    </>
  )
}

// Common is what many pages share: most often it is in the theme, or in one plugin.
function Common({ walked, open }: { walked: Walked; open: (path: string) => void }) {
  return (
    <section aria-label="On many pages" className="mt-4">
      <h2 className="text-[13px] text-soft">On many pages</h2>
      <ul>
        {walked.common.map(({ finding: f, paths }, i) => (
          <li
            key={i}
            className="grid gap-x-4 border-t border-line py-1 text-[13px] sm:grid-cols-[5rem_9rem_minmax(0,1fr)]"
          >
            <Word className="justify-self-start" onClick={() => open(paths[0])}>
              {paths.length} pages
            </Word>
            <span className={grave.includes(f.kind) ? "text-fail" : "text-soft"}>
              {kinds[f.kind] ?? f.kind}
            </span>
            <span className="break-words">
              {f.where && <Mono className="break-all">{f.where} </Mono>}
              {f.text}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

function Tile({
  page: p,
  label,
  open,
  onOpen,
}: {
  page: WalkedPage
  label: string
  open: boolean
  onOpen: () => void
}) {
  const words = p.findings.length === 0 ? "in order" : (kinds[p.findings[0].kind] ?? p.findings[0].kind)
  return (
    <li>
      <button
        type="button"
        title={`${p.title || p.path}: ${words}`}
        aria-label={`${p.path}: ${words}`}
        aria-pressed={open}
        onClick={onOpen}
        className={`max-w-56 truncate rounded-sm border px-1.5 py-0.5 text-left font-mono text-[12px] hover:border-ink ${tones[tone(p)]} ${open ? "outline-2 outline-accent" : ""}`}
      >
        <span aria-hidden>{marks[tone(p)]}</span> {shown(label)}
      </button>
    </li>
  )
}

// Evidence is all that is known of one page.
function Evidence({
  at,
  name,
  walked,
  page: p,
}: {
  at: RefObject<HTMLElement | null>
  name: string
  walked: Walked
  page: WalkedPage
}) {
  return (
    <article
      ref={at}
      data-page={p.path}
      aria-label={p.path}
      className="border-l-4 border-line-strong pl-4 lg:sticky lg:top-4"
    >
      <a
        href={new URL(walked.url).origin + p.path}
        target="_blank"
        rel="noreferrer"
        className="break-all font-mono text-[13px] underline underline-offset-4"
      >
        {p.path}
      </a>
      <p className="text-[20px] font-semibold leading-tight">{p.title || "without a title"}</p>
      <Mono className="text-soft">
        {p.status || "no answer"} · {p.milliseconds} ms
      </Mono>
      {p.findings.length === 0 && <p className="py-2">It is in order.</p>}
      <dl className="mt-2">
        {p.findings.map((f, i) => (
          <div
            key={i}
            className="grid gap-x-4 border-t border-line py-1 text-[13px] sm:grid-cols-[9rem_minmax(0,1fr)]"
          >
            <dt className={grave.includes(f.kind) ? "text-fail" : "text-soft"}>{kinds[f.kind] ?? f.kind}</dt>
            <dd className="break-words">
              {f.where && <Mono className="break-all">{f.where} </Mono>}
              {f.text}
            </dd>
          </div>
        ))}
      </dl>
      {p.findings.some((f) => f.kind === "php") && (
        <p className="mt-1 text-[13px]">
          <Link href={`/sites/${name}/errors`} className="underline underline-offset-4">
            What PHP said, with the lines
          </Link>
        </p>
      )}
      {p.cost?.longest && (
        <pre className="mt-2 whitespace-pre-wrap break-all bg-wash px-3 py-2 font-mono text-[12px]">
          {p.cost.longest}
        </pre>
      )}
      {p.pictures && <Pictures key={p.path} name={name} id={walked.id ?? ""} names={p.pictures} />}
    </article>
  )
}

const widths: Record<string, string> = { 1280: "desk", 820: "tablet", 390: "phone" }

// Pictures are how a page looked in three widths; one of them is large.
function Pictures({ name, id, names }: { name: string; id: string; names: string[] }) {
  const [large, setLarge] = useState(names[0])
  const width = (file: string) => file.replace(/^\d+-|\.jpg$/g, "")
  const address = useImage(`/sites/${name}/walks/${id}/pictures/${large}`)
  return (
    <figure className="mt-3">
      <figcaption className="flex gap-4 text-[13px]">
        {names.map((file) => (
          <Word
            key={file}
            aria-pressed={file === large}
            className={file === large ? "font-semibold text-accent" : "text-soft"}
            onClick={() => setLarge(file)}
          >
            {widths[width(file)] ?? "page"}, {width(file)}
          </Word>
        ))}
      </figcaption>
      {address && (
        <img
          src={address}
          alt={`The page in a width of ${width(large)} pixels`}
          className="mt-2 max-h-[26rem] max-w-full border border-line"
        />
      )}
      {address === undefined && <div className="mt-2 h-40 animate-pulse bg-wash" aria-busy />}
    </figure>
  )
}

const changed: Record<string, string> = {
  found: "worse",
  gone: "gone",
  slower: "slower",
  title: "other title",
  new: "new page",
  mended: "mended",
  quicker: "quicker",
}

// Compared is what another walk, a site or an address had otherwise.
export function Compared({ compared: c }: { compared: NonNullable<Walked["compared"]> }) {
  const worse = c.differences.filter((d) => d.change === "found" || d.change === "gone").length
  return (
    <section aria-label="Compared" className="mt-3 border-l-4 border-accent pl-4">
      <p>
        Compared with <Mono className="break-all">{c.with}</Mono>:{" "}
        {c.differences.length === 0
          ? "no difference."
          : `${worse} worse, ${c.differences.length} ${c.differences.length === 1 ? "difference" : "differences"} in all.`}
      </p>
      <ul>
        {c.differences.map((d, i) => (
          <li
            key={i}
            data-difference={d.change}
            className="grid gap-x-4 text-[13px] sm:grid-cols-[6rem_minmax(0,1fr)]"
          >
            <span className={d.change === "found" || d.change === "gone" ? "text-fail" : "text-soft"}>
              {changed[d.change]}
            </span>
            <span className="break-words">
              <Mono className="break-all">{d.path}</Mono> {d.text}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
