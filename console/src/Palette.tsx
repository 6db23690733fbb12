// Palette: everything that can be gone to or done, by keyboard.
import { Command } from "cmdk"
import { Dialog } from "radix-ui"
import { useEffect, useRef, useState } from "react"
import { useLocation } from "wouter"
import { ask, answer, api, queries, told, useCMS, useSites, type Site, type Verb } from "./api"
import { bring } from "./Bring"
import { follow } from "./Ticket"

const pages = [
  ["/", "Fleet"],
  ["/cms", "CMS and stencils"],
  ["/shelf", "Shelf"],
  ["/hosting", "Hosting"],
  ["/engines", "Engines"],
  ["/operations", "Operations"],
  ["/mail", "Mail"],
  ["/machine", "Machine"],
  ["/defaults", "Defaults"],
  ["/fleet-file", "Fleet file"],
] as const

const item =
  "flex cursor-pointer items-baseline justify-between gap-4 px-4 py-1.5 data-[selected=true]:bg-wash data-[selected=true]:shadow-[inset_3px_0_0_var(--accent)]"
const heading =
  "[&_[cmdk-group-heading]]:px-4 [&_[cmdk-group-heading]]:pb-0.5 [&_[cmdk-group-heading]]:pt-2.5 [&_[cmdk-group-heading]]:text-[12.5px] [&_[cmdk-group-heading]]:text-soft"

// Doing is what an entry of the palette may do.
interface Doing {
  close: () => void
  lead: (path: string) => void
  act: (work: () => Promise<unknown>) => Promise<void>
}

export function Palette({ turn }: { turn: () => void }) {
  const [open, setOpen] = useState(false)
  const [of, setOf] = useState<Site>()
  const [words, setWords] = useState("")
  const [fault, setFault] = useState<string>()
  const [, go] = useLocation()
  useKey(() => setOpen((o) => !o))
  const choose = (site?: Site) => {
    setOf(site)
    setWords("")
  }
  const change = (next: boolean) => {
    setOpen(next)
    choose()
    setFault(undefined)
  }
  const doing: Doing = {
    close: () => change(false),
    lead: (path) => {
      change(false)
      go(path)
    },
    act: async (work) => {
      try {
        await work()
        change(false)
        await queries.invalidateQueries()
      } catch (error) {
        setFault(told(error))
      }
    },
  }
  return (
    <Dialog.Root open={open} onOpenChange={change}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-[14vh] z-50 w-[min(38rem,calc(100vw-2rem))] -translate-x-1/2 border border-line-strong bg-sheet shadow-xl"
          onEscapeKeyDown={(e) => {
            if (of) {
              e.preventDefault()
              choose()
            }
          }}
        >
          <Dialog.Title className="sr-only">Go to, or do</Dialog.Title>
          <Command label="Go to, or do" loop>
            <Words of={of} words={words} setWords={setWords} back={() => setOf(undefined)} />
            {fault && (
              <p role="alert" className="border-b border-line bg-fail-wash px-4 py-1.5 text-[13px]">
                {fault}
              </p>
            )}
            <Command.List className="max-h-[52vh] overflow-auto py-1">
              <Command.Empty className="px-4 py-5 text-soft">Nothing is called so.</Command.Empty>
              {of ? (
                <WithSite site={of} doing={doing} />
              ) : (
                <Everything doing={doing} choose={choose} turn={turn} />
              )}
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

// useKey has Ctrl+K, or the Mac's, open and close the palette.
function useKey(toggle: () => void) {
  const latest = useRef(toggle)
  latest.current = toggle
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key === "k") {
        event.preventDefault()
        latest.current()
      }
    }
    addEventListener("keydown", press)
    return () => removeEventListener("keydown", press)
  }, [])
}

// Words are what is looked for.
function Words({
  of,
  words,
  setWords,
  back,
}: {
  of?: Site
  words: string
  setWords: (words: string) => void
  back: () => void
}) {
  return (
    <div className="flex items-baseline gap-3 border-b border-line-strong px-4">
      {of && <span className="shrink-0 font-semibold">{of.title}</span>}
      <Command.Input
        autoFocus
        value={words}
        onValueChange={setWords}
        placeholder={of ? "what to do with it…" : "a site, a page, something to do…"}
        className="w-full bg-transparent py-3 text-[17px] outline-none placeholder:text-faint"
        onKeyDown={(e) => {
          if (e.key === "Backspace" && words === "" && of) back()
        }}
      />
    </div>
  )
}

// SignInto is found by "sign" and a word of the site.
const SignInto = ({ site: s, act }: { site: Site; act: Doing["act"] }) => (
  <Command.Item
    value={`sign in ${s.title} ${s.name} ${s.name_unicode ?? ""}`}
    className={item}
    onSelect={() => act(() => follow(s))}
  >
    <span className="truncate">Sign in to {s.title}</span>
  </Command.Item>
)

// WithSite is what can be done with one site.
function WithSite({ site, doing: { close, lead, act } }: { site: Site; doing: Doing }) {
  const definitions = useCMS().data?.cms ?? []
  const verb = (v: Verb) => act(() => ask(v, [site.name]))
  const running = site.state === "running"
  return (
    <Command.Group heading={site.name} className={heading}>
      <Command.Item className={item} onSelect={() => lead(`/sites/${site.name}`)}>
        Its page
      </Command.Item>
      {running && (
        <Command.Item
          className={item}
          onSelect={() => {
            window.open(site.url, "_blank")
            close()
          }}
        >
          Open it <span className="font-mono text-[12.5px] text-soft">{site.url}</span>
        </Command.Item>
      )}
      {running && definitions.find((k) => k.name === site.cms.name)?.signs_in && (
        <Command.Item className={item} onSelect={() => act(() => follow(site))}>
          Sign in
        </Command.Item>
      )}
      <Command.Item className={item} onSelect={() => verb(running ? "stop" : "start")}>
        {running ? "Stop it" : "Start it"}
      </Command.Item>
      <Command.Item className={item} onSelect={() => verb("verify")}>
        Verify it
      </Command.Item>
      {[
        ["settings", "Settings"],
        ["logs", "Logs"],
        ["errors", "What PHP said"],
        ["walk", "Walk through all pages"],
        ["terminal", "Terminal"],
        ["database", "Database"],
        ["outgoing", "What it asks of other machines"],
        ["guests", "Guests, and whom to invite"],
        ["screens", "Every screen size"],
        ["parts", "Plugins and themes"],
        ["restore", "Restore points"],
        ["info", "All that it runs on"],
        ["trial", "Try other stacks"],
      ].map(([path, text]) => (
        <Command.Item key={path} className={item} onSelect={() => lead(`/sites/${site.name}/${path}`)}>
          {text}
        </Command.Item>
      ))}
    </Command.Group>
  )
}

// Everything is the sites, what can be done without one, and the pages.
function Everything({
  doing: { close, lead, act },
  choose,
  turn,
}: {
  doing: Doing
  choose: (site: Site) => void
  turn: () => void
}) {
  const sites = useSites().data ?? []
  const definitions = useCMS().data?.cms ?? []
  return (
    <>
      <Command.Group heading="Sites" className={heading}>
        {sites.map((s) => (
          <Command.Item
            key={s.name}
            value={`${s.title} ${s.name} ${s.name_unicode ?? ""} ${s.domain}`}
            className={item}
            onSelect={() => choose(s)}
          >
            <span className="truncate">{s.title}</span>{" "}
            <span className="shrink-0 font-mono text-[12.5px] text-soft">{s.name_unicode ?? s.name}</span>
          </Command.Item>
        ))}
      </Command.Group>
      <Command.Group heading="Sign in" className={heading}>
        {sites
          .filter((s) => s.state === "running" && definitions.find((k) => k.name === s.cms.name)?.signs_in)
          .map((s) => (
            <SignInto key={s.name} site={s} act={act} />
          ))}
      </Command.Group>
      <Command.Group heading="Do" className={heading}>
        <Command.Item className={item} onSelect={() => lead("/?new")}>
          Make a new site
        </Command.Item>
        <Command.Item
          className={item}
          onSelect={() => {
            close()
            bring()
          }}
        >
          Bring a file…
        </Command.Item>
        <Command.Item
          className={item}
          onSelect={() => act(() => answer(api.POST("/api/v1/sites/verify", { body: { all: true } })))}
        >
          Verify all sites
        </Command.Item>
        <Command.Item
          className={item}
          onSelect={() => {
            turn()
            close()
          }}
        >
          Turn light to dark, or back
        </Command.Item>
      </Command.Group>
      <Command.Group heading="Pages" className={heading}>
        {pages.map(([path, text]) => (
          <Command.Item key={path} className={item} onSelect={() => lead(path)}>
            {text}
          </Command.Item>
        ))}
      </Command.Group>
    </>
  )
}
