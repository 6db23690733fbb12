// Screens: a site's pages live in frames of true device widths that scroll together, and the sheet of pictures for sending.
import { useEffect, useRef, useState } from "react"
import { useImage, useSites } from "./api"
import { Button, Crumbs, Mono, Notice } from "./ui"

const sizes: [string, number, number][] = [
  ["phone", 390, 844],
  ["tablet", 820, 1180],
  ["laptop", 1280, 800],
  ["wide", 1920, 1080],
]
const shown = 0.42 // of the true size

export function ScreensPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const [path, setPath] = useState("/")
  const [typed, setTyped] = useState("/")
  const [dark, setDark] = useState(false)
  const [pictures, setPictures] = useState(false)
  return (
    <>
      <Crumbs name={name} here="screens" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">Every screen size of {name}</h1>
      <form
        className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-2"
        onSubmit={(e) => {
          e.preventDefault()
          setPath(typed.startsWith("/") ? typed : `/${typed}`)
        }}
      >
        <label className="text-[13px] text-soft">
          Page{" "}
          <input
            name="page"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
            className="w-64 border-b border-line-strong bg-transparent font-mono text-[13px] text-ink"
          />
        </label>
        <Button type="submit">Show it</Button>
        <Button onClick={() => setPictures(!pictures)}>{pictures ? "Live frames" : "Pictures"}</Button>
        {pictures && (
          <label className="flex items-baseline gap-1.5 text-[13px]">
            <input
              type="checkbox"
              className="translate-y-0.5 accent-(--accent)"
              checked={dark}
              onChange={(e) => setDark(e.target.checked)}
            />
            for who prefers dark pages
          </label>
        )}
      </form>
      {site && site.state !== "running" && <Notice>The site does not run now.</Notice>}
      {site?.state === "running" &&
        (pictures ? (
          <Pictures key={path + dark} name={name} path={path} dark={dark} />
        ) : (
          <Frames key={path} base={site.url.replace(/\/$/, "")} path={path} />
        ))}
    </>
  )
}

// Frames scroll together: each tells how far down it is, as a share, and the others follow.
function Frames({ base, path }: { base: string; path: string }) {
  const all = useRef(new Map<string, HTMLIFrameElement>())
  useEffect(() => {
    const follow = (e: MessageEvent<{ vessikScroll?: unknown } | null>) => {
      const to = e.data?.vessikScroll
      if (e.origin !== new URL(base).origin || typeof to !== "number") return
      for (const frame of all.current.values())
        if (frame.contentWindow !== e.source) frame.contentWindow?.postMessage({ vessikScroll: to }, e.origin)
    }
    addEventListener("message", follow)
    return () => removeEventListener("message", follow)
  }, [base])
  return (
    <Row label="Live frames">
      {sizes.map(([size, width, height]) => (
        <Shown key={size} size={size} width={width} height={height}>
          <iframe
            ref={(frame) => {
              if (frame) all.current.set(size, frame)
              else all.current.delete(size)
            }}
            title={`${path} on a ${size}`}
            src={base + path}
            referrerPolicy="origin"
            sandbox="allow-scripts allow-same-origin allow-forms"
            width={width}
            height={height}
            style={{ transform: `scale(${shown})`, transformOrigin: "0 0" }}
            className="bg-white"
          />
        </Shown>
      ))}
    </Row>
  )
}

const Pictures = ({ name, path, dark }: { name: string; path: string; dark: boolean }) => (
  <Row label="Pictures">
    {sizes.map(([size, width, height]) => (
      <Shown key={size} size={size} width={width} height={height} whole>
        <Picture name={name} path={path} size={size} dark={dark} />
      </Shown>
    ))}
  </Row>
)

function Picture(p: { name: string; path: string; size: string; dark: boolean }) {
  const query = new URLSearchParams({ path: p.path, size: p.size, dark: String(p.dark) })
  const picture = useImage(`/sites/${p.name}/screen.png?${query}`)
  if (picture === undefined) return <div className="h-64 animate-pulse bg-wash" aria-busy />
  if (picture === null) return <p className="text-[13px] text-fail">no picture could be taken</p>
  return <img src={picture} alt={`${p.path} on a ${p.size}`} className="w-full border border-line" />
}

const Row = ({ label, children }: { label: string; children: React.ReactNode }) => (
  <section
    aria-label={label}
    // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls where it is wider than the page
    tabIndex={0}
    className="mt-5 flex items-start gap-6 overflow-x-auto pb-4"
  >
    {children}
  </section>
)

const Shown = (s: {
  size: string
  width: number
  height: number
  whole?: boolean
  children: React.ReactNode
}) => (
  <figure className="shrink-0" style={{ width: s.width * shown }}>
    <figcaption className="mb-1 text-[13px] text-soft">
      {s.size} <Mono>{`${s.width} × ${s.height}`}</Mono>
    </figcaption>
    <div
      className={s.whole ? "" : "overflow-hidden border border-line"}
      style={s.whole ? undefined : { height: s.height * shown }}
    >
      {s.children}
    </div>
  </figure>
)
