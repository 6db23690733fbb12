// What a site is called: its further domains, its name, and the change of both.
import { useState } from "react"
import { useLocation } from "wouter"
import { answer, api, of, queries, told, type Site } from "./api"
import { Mono, Word, Fact } from "./ui"
import { Entry, PreviewForm, usePreview } from "./PreviewForm"

// Domains are the further ones that the site answers for, and those that it had before.
export function Domains({ site: s, busy }: { site: Site; busy: boolean }) {
  const [draft, setDraft] = useState<string>()
  const [fault, setFault] = useState<string>()
  const set = async (domains: string[], drop: string[] = []) => {
    try {
      await answer(
        api.PUT("/api/v1/sites/{name}/domains", { ...of({ name: s.name }), body: { domains, drop } }),
      )
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
            <Word type="submit" disabled={busy}>
              set
            </Word>
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
          <Word className="text-[13px]" disabled={busy} onClick={() => set(further, [f.domain])}>
            drop
          </Word>
        </Fact>
      ))}
    </>
  )
}

// Rename gives the site another name or domain.
export function Rename({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [name, setName] = useState(s.name)
  const [domain, setDomain] = useState("")
  const [, go] = useLocation()
  const asked = { name: name === s.name ? undefined : name, domain: domain || undefined }
  const rename = { ...of({ name: s.name }), body: asked }
  const preview = usePreview(
    () => answer(api.POST("/api/v1/sites/{name}/rename/preview", rename)),
    async () => {
      const operation = await answer(api.POST("/api/v1/sites/{name}/rename", rename))
      setOpen(false)
      go(`/operations#${operation.id}`)
    },
  )
  if (!open)
    return (
      <Word disabled={busy} onClick={() => setOpen(true)}>
        another name or domain…
      </Word>
    )
  return (
    <PreviewForm
      className="w-full border-t border-line pt-3"
      verb="Rename"
      ready={!!(asked.name || asked.domain)}
      busy={busy}
      preview={preview}
      close={() => setOpen(false)}
    >
      <div className="grid grid-cols-2 gap-x-5">
        <Entry label="Name" name="new-name" autoFocus value={name} change={preview.changing(setName)} />
        <Entry
          label="Domain"
          name="new-domain"
          value={domain}
          change={preview.changing(setDomain)}
          placeholder={s.domain.replace(new RegExp(`^${s.name}\\.`), `${name}.`)}
        />
      </div>
      <p className="mt-1 text-[13px] text-soft">
        Vessik rewrites every address in the site, and its old domain leads here for 30 days. The site goes
        back by itself when a check fails that passed before.
      </p>
    </PreviewForm>
  )
}

// Scheme has the site answer over https alone, or over http.
export function Scheme({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [, go] = useLocation()
  const to = s.https ? "http" : "https"
  const change = { ...of({ name: s.name }), body: { https: s.https ? ("off" as const) : ("on" as const) } }
  const preview = usePreview(
    () => answer(api.POST("/api/v1/sites/{name}/rename/preview", change)),
    async () => {
      const operation = await answer(api.POST("/api/v1/sites/{name}/rename", change))
      setOpen(false)
      go(`/operations#${operation.id}`)
    },
  )
  if (!open)
    return (
      <Word disabled={busy} onClick={() => setOpen(true)}>
        {to} instead…
      </Word>
    )
  return (
    <PreviewForm
      className="w-full border-t border-line pt-3"
      verb={`Answer over ${to}`}
      ready
      busy={busy}
      preview={preview}
      close={() => setOpen(false)}
    >
      <p className="text-[13px] text-soft">
        Vessik rewrites every address in the site, leads requests over {s.https ? "https" : "http"} there, and
        keeps whoever is signed in so. The site goes back by itself when a check fails that passed before.
      </p>
    </PreviewForm>
  )
}
