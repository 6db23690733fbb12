// What a site is called: its further domains, its name, and the change of both.
import { useState } from "react"
import { useLocation } from "wouter"
import { call, queries, told, type Site, type Tally } from "./api"
import { Button, Mono, Word, Fact } from "./ui"

// Domains are the further ones that the site answers for, and those that it had before.
export function Domains({ site: s }: { site: Site }) {
  const [draft, setDraft] = useState<string>()
  const [fault, setFault] = useState<string>()
  const set = async (domains: string[], forget: string[] = []) => {
    try {
      await call("PUT", `/sites/${s.name}/domains`, { domains, forget })
      setDraft(undefined)
      setFault(undefined)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  const further = s.domains ?? []
  return (
    <>
      <Fact name="also answers for">
        {draft === undefined ? (
          <>
            {further.map((d) => (
              <Mono key={d} className="block">
                {d}
              </Mono>
            ))}
            <Word className="text-[13px]" onClick={() => setDraft(further.join(" "))}>
              {further.length ? "change…" : "a further domain…"}
            </Word>
          </>
        ) : (
          <form
            className="flex items-baseline gap-3"
            onSubmit={(e) => {
              e.preventDefault()
              void set(draft.split(/[ ,]+/).filter(Boolean))
            }}
          >
            <input
              name="domains"
              autoFocus
              value={draft}
              onChange={(e) => setDraft(e.target.value)}
              aria-label="Further domains"
              placeholder="apples.localhost"
              className="min-w-0 grow border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-faint"
            />
            <Word type="submit">set</Word>
          </form>
        )}
        {fault && (
          <span role="alert" className="block text-[13px] text-fail">
            {fault}
          </span>
        )}
      </Fact>
      {(s.forwards ?? []).map((f) => (
        <Fact key={f.domain} name="led here">
          <Mono>{f.domain}</Mono> <span className="text-[13px] text-soft">until {f.until.slice(0, 10)}</span>{" "}
          <Word className="text-[13px]" onClick={() => set(further, [f.domain])}>
            forget
          </Word>
        </Fact>
      ))}
    </>
  )
}

// Rehearsed tells what the rewriter would do, and what it leaves alone.
export function Rehearsed({ tally }: { tally: Tally }) {
  const tables = Object.entries(tally.tables)
  return (
    <div className="mt-2 max-h-48 overflow-auto border-l-2 border-line-strong pl-3 text-[13px]">
      <p>
        {tables.reduce((n, [, c]) => n + c.addresses, 0)} addresses would change
        {tally.left_count > 0 && `, ${tally.left_count} values be left alone`}.
      </p>
      {tables.map(([name, c]) => (
        <p key={name} className="text-soft">
          <Mono>{name}</Mono> {c.addresses} in {c.values} values
        </p>
      ))}
      {tally.left.map((l, i) => (
        <p key={i} className="text-soft">
          {l.why}: <Mono className="break-all">{l.excerpt}</Mono>
        </p>
      ))}
    </div>
  )
}

// Rename gives the site another name or domain.
export function Rename({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [name, setName] = useState(s.name)
  const [domain, setDomain] = useState("")
  const [tally, setTally] = useState<Tally>()
  const [fault, setFault] = useState<string>()
  const [, go] = useLocation()
  if (!open)
    return (
      <Word disabled={busy} onClick={() => setOpen(true)}>
        another name or domain…
      </Word>
    )
  const asked = { name: name === s.name ? undefined : name, domain: domain || undefined }
  const send = async (rehearse: boolean) => {
    setFault(undefined)
    try {
      if (rehearse) return setTally(await call<Tally>("POST", `/sites/${s.name}/rename/rehearse`, asked))
      const operation = await call<{ id: string }>("POST", `/sites/${s.name}/rename`, asked)
      setOpen(false)
      go(`/operations#${operation.id}`)
    } catch (error) {
      setFault(told(error))
    }
  }
  const looks =
    "w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink placeholder:text-soft"
  return (
    <form
      className="w-full border-t border-line pt-3"
      onSubmit={(e) => {
        e.preventDefault()
        void send(false)
      }}
    >
      <div className="grid grid-cols-2 gap-x-5">
        <label className="text-[13px] text-soft">
          Name
          <input
            name="new-name"
            autoFocus
            value={name}
            onChange={(e) => {
              setName(e.target.value)
              setTally(undefined)
            }}
            className={looks}
          />
        </label>
        <label className="text-[13px] text-soft">
          Domain
          <input
            name="new-domain"
            value={domain}
            onChange={(e) => {
              setDomain(e.target.value)
              setTally(undefined)
            }}
            placeholder={s.domain.replace(new RegExp(`^${s.name}\\.`), `${name}.`)}
            className={looks}
          />
        </label>
      </div>
      <p className="mt-1 text-[13px] text-soft">
        Everything in it is re-addressed, and its old domain leads here for 30 days. It goes back by itself
        when it is worse off.
      </p>
      {fault && (
        <p role="alert" className="text-[13px] text-fail">
          {fault}
        </p>
      )}
      {tally && <Rehearsed tally={tally} />}
      <p className="mt-2 flex items-center gap-4">
        <Button type="submit" tone="strong" disabled={busy || (!asked.name && !asked.domain)}>
          Rename
        </Button>
        <Word disabled={!asked.name && !asked.domain} onClick={() => send(true)}>
          what would change
        </Word>
        <Word onClick={() => setOpen(false)}>leave it</Word>
      </p>
    </form>
  )
}
