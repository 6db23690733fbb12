// A whole site in one file, as the browser fetches it.
import { useState } from "react"
import { download, told, type Site } from "./api"
import { Entry } from "./PreviewForm"
import { Word } from "./ui"

export function AsParcel({ site: s }: { site: Site }) {
  const [open, setOpen] = useState(false)
  const [zip, setZip] = useState(false)
  const [lean, setLean] = useState(false)
  const [address, setAddress] = useState("")
  const [fault, setFault] = useState<string>()
  if (!open) return <Word onClick={() => setOpen(true)}>The whole site in one file…</Word>
  const fetch = async () => {
    setFault(undefined)
    const query = new URLSearchParams()
    if (zip) query.set("zip", "true")
    if (lean) query.set("without", "uploads")
    if (address) query.set("for", address)
    try {
      await download(`/sites/${s.name}/parcel?${query}`)
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <form
      aria-label="The whole site in one file"
      className="basis-full border-t border-line pt-3"
      onSubmit={(e) => {
        e.preventDefault()
        void fetch()
      }}
    >
      <Entry
        label="Address that it is to have where it goes"
        name="parcel-for"
        value={address}
        change={setAddress}
        placeholder={s.url.replace(/\/$/, "")}
      />
      <Choice name="parcel-zip" label="as a zip archive" checked={zip} change={setZip} />
      <Choice name="parcel-lean" label="without what people uploaded" checked={lean} change={setLean} />
      <p className="my-2 text-[13px] text-soft">
        Files, database and users, without the passwords and keys of its configuration.
      </p>
      <p className="flex gap-4">
        <Word type="submit">Fetch the parcel</Word>
        <Word onClick={() => setOpen(false)}>leave it</Word>
      </p>
      {fault && (
        <p role="alert" className="text-[13px] text-fail">
          {fault}
        </p>
      )}
    </form>
  )
}

function Choice(c: { name: string; label: string; checked: boolean; change: (on: boolean) => void }) {
  return (
    <label className="mt-1 flex items-baseline gap-1.5 text-[13px]">
      <input
        type="checkbox"
        name={c.name}
        className="translate-y-0.5 accent-(--accent)"
        checked={c.checked}
        onChange={(e) => c.change(e.target.checked)}
      />
      {c.label}
    </label>
  )
}
