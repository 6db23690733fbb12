// Mail: what sites sent, none of which left this machine.
import { useQuery } from "@tanstack/react-query"
import { useEffect, useRef, useState, type KeyboardEvent } from "react"
import { useSearch } from "wouter"
import { answer, api, download, of, queries, request, told, type Mail, type MailRead } from "./api"
import { Access, HandOn } from "./MailOut"
import { Button, Fact, Mono, Notice, Word } from "./ui"

const look = 2000 // how often new mail is looked for, in milliseconds
const beside = 1024 // from this width on a message stands beside the list, in pixels

export function MailPage() {
  const asked = new URLSearchParams(useSearch()).get("site") ?? ""
  const [site, setSite] = useState(asked)
  const [search, setSearch] = useState("")
  const [id, setID] = useState<number>()
  const mail = useQuery({
    queryKey: ["mail", site, search],
    queryFn: () => answer(api.GET("/api/v1/mail", { params: { query: { site, search } } })),
    refetchInterval: look,
    placeholderData: (before) => before,
  })
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => answer(api.GET("/api/v1/sites")) })
  const all = mail.data ?? []
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Mail</h1>
      <p className="mb-4 max-w-3xl text-soft">
        All that sites send, by <Mono>mail()</Mono>, by a command or to any mail server, arrives here and goes
        to nobody.
      </p>
      {mail.isError && <Notice tone="fail">{mail.error.message}</Notice>}
      <p className="mb-3 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <select
          aria-label="Site"
          value={site}
          onChange={(e) => setSite(e.target.value)}
          className="border-b border-line-strong bg-transparent"
        >
          <option value="">all sites</option>
          {sites.data?.map((s) => (
            <option key={s.name} value={s.name}>
              {s.name_unicode ?? s.name}
            </option>
          ))}
        </select>
        <input
          type="search"
          aria-label="Search"
          placeholder="search sender, recipients, subject"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          className="w-72 border-b border-line-strong bg-transparent placeholder:text-soft"
        />
        {site && all.length > 0 && <DropAll site={site} />}
        {site && <Access key={site} site={site} />}
      </p>
      {mail.data && all.length === 0 && (
        <p className="py-8 text-soft">{search ? "No mail has that in it." : "No mail was caught yet."}</p>
      )}
      <div className="grid gap-x-8 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
        <List mails={all} open={id} choose={setID} />
        {id !== undefined && <Letter key={id} id={id} dropped={() => setID(undefined)} />}
      </div>
    </>
  )
}

// List is walked with the arrow keys as well.
function List({ mails, open, choose }: { mails: Mail[]; open?: number; choose: (id: number) => void }) {
  const walk = (e: KeyboardEvent<HTMLUListElement>) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
    const now = [...e.currentTarget.querySelectorAll("button")]
    const next = step && now[now.indexOf(document.activeElement as HTMLButtonElement) + step]
    if (next) {
      e.preventDefault()
      next.focus()
      next.click()
    }
  }
  return (
    // eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- its buttons have the focus
    <ul
      aria-label="Messages"
      onKeyDown={walk}
      className="max-h-[70vh] overflow-y-auto border-t border-line-strong"
    >
      {mails.map((m) => (
        <li key={m.id} className="border-b border-line">
          <button
            data-mail={m.id}
            aria-current={m.id === open}
            onClick={() => choose(m.id)}
            className="block w-full border-l-4 border-transparent px-2 py-1.5 text-left hover:bg-wash aria-current:border-accent aria-current:bg-wash"
          >
            <span className="flex gap-3">
              <span className="min-w-0 grow truncate font-medium">{m.subject || "no subject"}</span>
              <time className="text-[13px] text-soft" dateTime={m.at}>
                {when(m.at)}
              </time>
            </span>
            <span className="block truncate text-[13px] text-soft">
              {m.site}: {m.from} → {m.to.join(", ")}
            </span>
          </button>
        </li>
      ))}
    </ul>
  )
}

const when = (at: string) => {
  const then = new Date(at)
  return then.toDateString() === new Date().toDateString()
    ? then.toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" })
    : then.toLocaleDateString()
}

const views = ["page", "text", "headers", "source"] as const

// Letter is one message, and what a mail program would say of it.
function Letter({ id, dropped }: { id: number; dropped: () => void }) {
  const letter = useQuery({
    queryKey: ["letter", id],
    queryFn: () => answer(api.GET("/api/v1/mail/{id}", of({ id }))),
    staleTime: Infinity,
  })
  const [fault, setFault] = useState<string>()
  const [handing, setHanding] = useState(false)
  const m = letter.data
  const top = useRef<HTMLElement>(null)
  useEffect(() => {
    if (m && innerWidth < beside) top.current?.scrollIntoView()
  }, [m])
  if (letter.isError) return <Notice tone="fail">{letter.error.message}</Notice>
  if (!m) return <div className="h-40 animate-pulse bg-wash" aria-busy />
  const drop = async () => {
    try {
      await answer(api.DELETE("/api/v1/mail/{id}", of({ id })))
      await queries.invalidateQueries({ queryKey: ["mail"] })
      dropped()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <article
      ref={top}
      aria-label={m.subject || "no subject"}
      className="min-w-0 border-t border-line-strong pt-2"
    >
      <h2 className="text-[17px] font-semibold break-words">{m.subject || "no subject"}</h2>
      <dl className="my-2 grid grid-cols-[7rem_minmax(0,1fr)] gap-x-4 gap-y-0.5">
        <Fact name="from">{m.from || "nobody"}</Fact>
        <Fact name="to">{m.to.join(", ")}</Fact>
        <Fact name="caught">
          {new Date(m.at).toLocaleString()}, by {m.way}
        </Fact>
        {m.message.attachments.length > 0 && (
          <Fact name="attachments">
            <Attachments letter={m} failed={setFault} />
          </Fact>
        )}
        {m.message.remarks.length > 0 && (
          <Fact name="remarks">
            {m.message.remarks.map((r) => (
              <span key={r} className="block">
                {r}
              </span>
            ))}
          </Fact>
        )}
      </dl>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {handing && <HandOn id={id} done={() => setHanding(false)} />}
      <Views letter={m} drop={drop} handOn={() => setHanding(true)} />
    </article>
  )
}

// Attachments are saved by a click.
function Attachments({ letter: m, failed }: { letter: MailRead; failed: (fault: string) => void }) {
  const save = (number: number) =>
    download(`/mail/${m.id}/attachments/${number}`).catch((error: unknown) => failed(told(error)))
  return m.message.attachments.map((a, i) => (
    <Word key={i} className="mr-4" onClick={() => void save(i + 1)}>
      {a.name || a.type} <span className="text-[13px] text-soft">{Math.ceil(a.bytes / 1024)} KB</span>
    </Word>
  ))
}

function Views({
  letter: m,
  drop,
  handOn,
}: {
  letter: MailRead
  drop: () => Promise<void>
  handOn: () => void
}) {
  const there = views.filter((v) => (v === "page" ? m.message.html : v === "text" ? m.message.text : true))
  const [view, setView] = useState<(typeof views)[number]>(there[0])
  const source = useQuery({
    queryKey: ["source", m.id],
    queryFn: async () => (await request(`/mail/${m.id}/source`)).text(),
    enabled: view === "source",
  })
  const texts = {
    text: m.message.text,
    headers: m.message.headers.map((h) => `${h.name}: ${h.value}`).join("\n"),
    source: source.data ?? "",
  }
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-5 border-b border-line pb-1">
        {there.map((v) => (
          <Word
            key={v}
            aria-pressed={v === view}
            className="aria-pressed:font-semibold"
            onClick={() => setView(v)}
          >
            {v}
          </Word>
        ))}
        <span className="grow" />
        <Word onClick={handOn}>hand on…</Word>
        <Word onClick={() => void drop()}>drop</Word>
      </p>
      {view === "page" ? (
        <>
          <p className="py-1 text-[13px] text-soft">
            What it would load from elsewhere is left out.{" "}
            <Word onClick={() => void withRemote(m.id)}>See it with that, in a tab of its own</Word>
          </p>
          <iframe
            title="The message"
            sandbox="allow-popups allow-popups-to-escape-sandbox"
            srcDoc={`<base target="_blank"><meta name="referrer" content="no-referrer">${m.page}`}
            className="h-[55vh] w-full border border-line bg-white"
          />
        </>
      ) : (
        <section aria-label={view} className="max-h-[60vh] overflow-auto py-2">
          <pre className="font-mono text-[13px] whitespace-pre-wrap break-words">{texts[view]}</pre>
        </section>
      )}
    </>
  )
}

// withRemote opens a message in a tab, where it may load what it names.
async function withRemote(id: number) {
  const tab = open("", "_blank") // at once: later it would count as unasked for
  const path = `/api/v1/mail/${id}/page`
  const { url } = await answer(api.POST("/api/v1/downloads", { body: { path } }))
  if (tab) {
    tab.opener = null
    tab.location.href = url
  }
}

function DropAll({ site }: { site: string }) {
  const [sure, setSure] = useState(false)
  const drop = async () => {
    await answer(api.DELETE("/api/v1/sites/{name}/mail", of({ name: site })))
    setSure(false)
    await queries.invalidateQueries({ queryKey: ["mail"] })
  }
  if (!sure) return <Word onClick={() => setSure(true)}>drop all of {site}…</Word>
  return (
    <span className="flex items-baseline gap-4">
      <Button onClick={() => void drop()}>Drop all</Button>
      <Word onClick={() => setSure(false)}>leave them</Word>
    </span>
  )
}
