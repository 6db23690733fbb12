// Bring: files that are dropped on any page, or chosen, are brought to the service, which says what they are; then comes what can be done.
import { Dialog } from "radix-ui"
import { useEffect, useRef, useState, type ReactNode } from "react"
import { useLocation } from "wouter"
import { answer, api, of, queries, told, upload, useSites, type Upload } from "./api"
import { BaseAddress, Entry, PreviewForm, usePreview } from "./PreviewForm"
import { Button, Mono, Word } from "./ui"

// bring opens the choice of a file from anywhere.
export const bring = () => dispatchEvent(new Event("vessik:bring"))

// Brought is a file on its way, or there.
interface Brought {
  file: File
  sent: number
  upload?: Upload
  fault?: string
}

const size = (bytes: number) =>
  bytes < 1e6
    ? `${Math.ceil(bytes / 1e3)} kB`
    : bytes < 1e9
      ? `${(bytes / 1e6).toFixed(1)} MB`
      : `${(bytes / 1e9).toFixed(1)} GB`

export function Bring() {
  const [brought, setBrought] = useState<Brought>()
  const chooser = useRef<HTMLInputElement>(null)
  const aborted = useRef<AbortController>(undefined)
  const [, go] = useLocation()
  const waiting = useRef<File[]>([])
  const kept = useRef<Upload[]>([]) // archives to which the next one belongs
  const next = async () => {
    const file = waiting.current.shift()
    setBrought(file && { file, sent: 0 })
    if (!file) return
    if (/\.ya?ml$/i.test(file.name)) {
      sessionStorage.setItem("fleet file", await file.text())
      go("/fleet-file")
      dispatchEvent(new Event("vessik:fleet-file"))
      return next()
    }
    const abort = (aborted.current = new AbortController())
    try {
      const there = await upload(file, (sent) => setBrought((b) => b && { ...b, sent }), abort.signal)
      setBrought({ file, sent: file.size, upload: there })
    } catch (error) {
      if (!abort.signal.aborted) setBrought({ file, sent: 0, fault: told(error) })
    }
  }
  const take = (files: FileList | null | undefined) => {
    waiting.current.push(...(files ?? []))
    if (!brought) void next() // otherwise they come when it is closed
  }
  const over = useDrop(take)
  useEffect(() => {
    const open = () => chooser.current?.click()
    addEventListener("vessik:bring", open)
    return () => removeEventListener("vessik:bring", open)
  }, [])
  const close = (used?: boolean) => {
    aborted.current?.abort()
    const left = used ? [] : [...kept.current, ...(brought?.upload ? [brought.upload] : [])]
    for (const { id } of left)
      void answer(api.DELETE("/api/v1/uploads/{id}", of({ id }))).catch(() => undefined)
    kept.current = []
    void next()
  }
  const together = () => {
    if (brought?.upload) kept.current.push(brought.upload)
    void next()
  }
  return (
    <>
      <input
        ref={chooser}
        type="file"
        name="bring"
        multiple
        hidden
        onChange={(e) => {
          take(e.target.files)
          e.target.value = ""
        }}
      />
      {over && (
        <div className="pointer-events-none fixed inset-3 z-50 grid place-items-center border-4 border-accent bg-sheet/85">
          <p className="max-w-lg text-center text-[19px] font-semibold">
            Drop it here: an archive, a dump, a stencil, a plugin, a theme or a fleet file, up to 20 GB.
          </p>
        </div>
      )}
      <Sheet
        brought={brought}
        more={waiting.current.length}
        kept={kept.current}
        together={together}
        close={close}
      />
    </>
  )
}

// useDrop watches for files that are dragged over the page.
function useDrop(take: (files?: FileList) => void) {
  const [over, setOver] = useState(false)
  const latest = useRef(take)
  latest.current = take
  useEffect(() => {
    const hasFiles = (e: DragEvent) => e.dataTransfer?.types.includes("Files") ?? false
    const drag = (e: DragEvent) => {
      if (!hasFiles(e)) return
      e.preventDefault()
      setOver(true)
    }
    const leave = (e: DragEvent) => e.relatedTarget === null && setOver(false)
    const drop = (e: DragEvent) => {
      if (!hasFiles(e)) return
      e.preventDefault()
      setOver(false)
      latest.current(e.dataTransfer?.files)
    }
    addEventListener("dragover", drag)
    addEventListener("dragleave", leave)
    addEventListener("drop", drop)
    return () => {
      removeEventListener("dragover", drag)
      removeEventListener("dragleave", leave)
      removeEventListener("drop", drop)
    }
  }, [])
  return over
}

interface Shown {
  brought?: Brought
  more: number // files that wait
  kept: Upload[] // archives to which this one belongs
  together: () => void
  close: (used?: boolean) => void
}

function Sheet({ brought, more, kept, together, close }: Shown) {
  return (
    <Dialog.Root open={brought !== undefined} onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-[14vh] z-50 w-[min(38rem,calc(100vw-2rem))] -translate-x-1/2 border border-line-strong bg-sheet p-6 shadow-xl"
        >
          <Dialog.Title className="break-all text-xl font-semibold">{brought?.file.name}</Dialog.Title>
          {more > 0 && <p className="text-[13px] text-soft">{more} more after this one</p>}
          {kept.length > 0 && (
            <p className="break-all text-[13px] text-soft">
              Together with {kept.map((u) => u.name).join(", ")}
            </p>
          )}
          {brought && <Progress brought={brought} />}
          {brought?.upload && (
            <Choices
              upload={brought.upload}
              before={kept.map((u) => u.path)}
              together={more > 0 ? together : undefined}
              close={close}
            />
          )}
          {!brought?.upload && (
            <p className="mt-4">
              <Word onClick={() => close()}>leave it</Word>
            </p>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

const kinds: Record<Upload["kind"], string> = {
  archive: "A release or a site of a PHP CMS",
  part: "A plugin or theme",
  parcel: "A parcel, a whole site",
  stencil: "A stencil",
  dump: "A dump of a database",
  unknown: "Nothing that Vessik knows: neither an archive, a dump nor a stencil",
}

function Progress({ brought: { file, sent, upload: there, fault } }: { brought: Brought }) {
  if (fault)
    return (
      <p role="alert" className="mt-2 text-fail">
        {fault}
      </p>
    )
  if (there)
    return (
      <p className="mt-1 text-soft">
        {[kinds[there.kind], there.what].filter(Boolean).join(": ")}, {size(there.size_bytes)}
      </p>
    )
  return (
    <p className="mt-2 text-soft" role="status">
      <progress className="mr-3 w-64 accent-(--accent)" max={file.size} value={sent} aria-label="Sent" />
      {size(sent)} of {size(file.size)}
    </p>
  )
}

// Choices are what can be done with a file.
interface Choosing {
  upload: Upload
  before?: string[]
  together?: () => void
  close: (used?: boolean) => void
}

function Choices({ upload: there, before, together, close }: Choosing) {
  switch (there.kind) {
    case "archive":
      return (
        <Line leave={() => close()}>
          <MakeSite upload={there} before={before} close={close} />
          {together && <Word onClick={together}>the next one belongs to it</Word>}
          {there.what && there.name.endsWith(".zip") && <Keep upload={there} as="shelf" close={close} />}
        </Line>
      )
    case "parcel":
      return <UnpackInto upload={there} close={close} />
    case "part":
      return (
        <Line leave={() => close()}>
          <Keep upload={there} as="shelf" close={close} />
        </Line>
      )
    case "stencil":
      return <KeepStencil upload={there} close={close} />
    case "dump":
      return <LoadInto upload={there} close={close} />
    case "unknown":
      return <Line leave={() => close()}>{null}</Line>
  }
}

const Line = ({ children, leave }: { children: ReactNode; leave: () => void }) => (
  <p className="mt-4 flex flex-wrap items-center gap-4">
    {children}
    <Word onClick={leave}>leave it</Word>
  </p>
)

function MakeSite({ upload: there, before = [], close }: Choosing) {
  const [, go] = useLocation()
  return (
    <Button
      tone="strong"
      onClick={() => {
        close(true)
        go("/?" + new URLSearchParams({ new: "", archive: [...before, there.path].join("\n") }).toString())
      }}
    >
      Make a site of it…
    </Button>
  )
}

// UnpackInto makes a site of a parcel, or puts it in the place of one.
function UnpackInto({ upload: there, close }: { upload: Upload; close: (used?: boolean) => void }) {
  const [name, setName] = useState("")
  const [fault, setFault] = useState<string>()
  const [, go] = useLocation()
  const unpack = async () => {
    try {
      await answer(api.POST("/api/v1/sites/{name}/unpack", { ...of({ name }), body: { parcel: there.path } }))
      close(true)
      go("/sites/" + name)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <>
      <Line leave={() => close()}>
        <MakeSite upload={there} close={close} />
      </Line>
      <div className="mt-5 border-t border-line pt-3">
        <IntoSite
          label="Or in the place of a site's files and database; a restore point is taken first"
          name={name}
          change={setName}
        />
        <p className="mt-3">
          <Word disabled={!name} onClick={() => void unpack()}>
            Unpack it over {name || "a site"}
          </Word>
        </p>
        {fault && (
          <p role="alert" className="text-[13px] text-fail">
            {fault}
          </p>
        )}
      </div>
    </>
  )
}

// IntoSite is the choice of a site.
function IntoSite(c: { label: string; name: string; change: (name: string) => void }) {
  const sites = useSites().data ?? []
  return (
    <label className="block text-[13px] text-soft">
      {c.label}
      <select
        name="into"
        value={c.name}
        onChange={(e) => c.change(e.target.value)}
        className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px] text-ink"
      >
        <option value="">choose…</option>
        {sites.map((s) => (
          <option key={s.name}>{s.name}</option>
        ))}
      </select>
    </label>
  )
}

// Keep puts a file where it stays, and goes there.
function Keep({
  upload: there,
  as,
  name,
  close,
}: {
  upload: Upload
  as: "shelf" | "stencil"
  name?: string
  close: (used?: boolean) => void
}) {
  const [fault, setFault] = useState<string>()
  const [, go] = useLocation()
  const keep = async () => {
    try {
      await answer(api.POST("/api/v1/uploads/{id}/keep", { ...of({ id: there.id }), body: { as, name } }))
      close(true)
      go(as === "shelf" ? "/shelf" : "/cms")
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <>
      <Button
        tone={as === "stencil" || there.kind === "part" ? "strong" : "plain"}
        disabled={name === ""}
        onClick={keep}
      >
        {as === "shelf" ? "Put it on the shelf" : "Keep the stencil"}
      </Button>
      {fault && (
        <span role="alert" className="basis-full text-[13px] text-fail">
          {fault}
        </span>
      )}
    </>
  )
}

function KeepStencil({ upload: there, close }: { upload: Upload; close: (used?: boolean) => void }) {
  const [name, setName] = useState(there.suggested ?? "")
  return (
    <div className="mt-3">
      <Entry label="Its name here" name="stencil-name" autoFocus value={name} change={setName} />
      <Line leave={() => close()}>
        <Keep upload={there} as="stencil" name={name} close={close} />
      </Line>
    </div>
  )
}

// LoadInto puts a dump in the place of a site's database.
function LoadInto({ upload: there, close }: { upload: Upload; close: (used?: boolean) => void }) {
  const [name, setName] = useState("")
  const [address, setAddress] = useState("")
  const [, go] = useLocation()
  const load = { ...of({ name }), body: { sql: there.path, address: address || undefined } }
  const preview = usePreview(
    () => answer(api.POST("/api/v1/sites/{name}/load/preview", load)),
    async () => {
      await answer(api.POST("/api/v1/sites/{name}/load", load))
      close(true)
      go("/sites/" + name)
    },
  )
  return (
    <PreviewForm
      className="mt-3"
      verb="Load"
      ready={name !== ""}
      busy={false}
      preview={preview}
      close={() => close()}
    >
      <IntoSite
        label="Into which site: it takes the place of the database, and a restore point is taken first"
        name={name}
        change={preview.changing(setName)}
      />
      <BaseAddress name="upload-address" value={address} change={preview.changing(setAddress)} />
      <p className="mt-1 text-[13px] text-soft">
        It lies at <Mono className="break-all">{there.path}</Mono> for a day.
      </p>
    </PreviewForm>
  )
}
