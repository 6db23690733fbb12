// What a site holds: a dump in the place of its database, a copy or a stencil of it, and how it is used from a shell.
import { useState } from "react"
import { answer, api, of, queries, told, type Site } from "./api"
import { Mono, Word } from "./ui"
import { BaseAddress, Entry, PreviewForm, usePreview } from "./PreviewForm"

// LoadSQL puts a dump in the place of the database.
export function LoadSQL({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [sql, setSQL] = useState("")
  const [address, setAddress] = useState("")
  const load = { ...of({ name: s.name }), body: { sql, address: address || undefined } }
  const preview = usePreview(
    () => answer(api.POST("/api/v1/sites/{name}/load/preview", load)),
    async () => {
      await answer(api.POST("/api/v1/sites/{name}/load", load))
      setOpen(false)
    },
  )
  if (!open)
    return (
      <dd className="col-span-2 mt-2">
        <Word disabled={busy} onClick={() => setOpen(true)}>
          load an SQL file…
        </Word>
      </dd>
    )
  return (
    <dd className="col-span-2 mt-2 border-t border-line pt-3">
      <PreviewForm verb="Load" ready={!!sql} busy={busy} preview={preview} close={() => setOpen(false)}>
        <Entry
          label="File on this machine, plain or compressed"
          name="sql"
          autoFocus
          value={sql}
          change={preview.changing(setSQL)}
          placeholder="/home/ines/orchard.sql.gz"
        />
        <BaseAddress name="sql-address" value={address} change={preview.changing(setAddress)} />
        <p className="mt-1 text-[13px] text-soft">
          It takes the place of the database, re-addressed to this site. A restore point is taken first.
        </p>
      </PreviewForm>
    </dd>
  )
}

// Commands are what opens the folder outside the browser, which no page may do itself.
export function Commands({ site: s }: { site: Site }) {
  const [copied, setCopied] = useState("")
  return (
    <div className="mt-3 grid grid-cols-[7rem_1fr] gap-x-3 gap-y-1 text-[13px]">
      {[
        ["editor", `vessik edit ${s.name}`],
        ["terminal", `vessik terminal ${s.name}`],
        ["team's file", `vessik fleet write ${s.name} -content`],
      ].map(([what, command]) => (
        <div key={what} className="contents">
          <span className="text-soft">{what}</span>
          <span>
            <Mono>{command}</Mono>{" "}
            <Word
              className="ml-2"
              onClick={() => navigator.clipboard?.writeText(command).then(() => setCopied(what))}
            >
              {copied === what ? "copied" : "copy"}
            </Word>
          </span>
        </div>
      ))}
    </div>
  )
}

// SaveAs saves the site as a stencil.
export function SaveAs({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [as, setAs] = useState("")
  const [settings, setSettings] = useState(false)
  const [fault, setFault] = useState<string>()
  if (!open)
    return (
      <Word disabled={busy} onClick={() => setOpen(true)}>
        Make a stencil of this site…
      </Word>
    )
  return (
    <form
      className="flex items-baseline gap-2"
      onSubmit={async (e) => {
        e.preventDefault()
        try {
          await answer(
            api.POST("/api/v1/sites/{name}/stencil", { ...of({ name: s.name }), body: { as, settings } }),
          )
          setOpen(false)
          await queries.invalidateQueries()
        } catch (error) {
          setFault(told(error))
        }
      }}
    >
      <input
        name="stencil"
        autoFocus
        value={as}
        onChange={(e) => setAs(e.target.value)}
        placeholder="garden-basics"
        aria-label="Name of the stencil"
        className="w-44 border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-faint"
      />
      <label className="flex items-baseline gap-1.5 text-[13px]">
        <input
          type="checkbox"
          name="stencil-settings"
          className="translate-y-0.5 accent-(--accent)"
          checked={settings}
          onChange={(e) => setSettings(e.target.checked)}
        />
        with its php.ini settings
      </label>
      <Word type="submit" disabled={!as}>
        save
      </Word>
      {fault && <span className="text-[13px] text-fail">{fault}</span>}
    </form>
  )
}
