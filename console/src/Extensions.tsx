// Extensions of a site's PHP: those that are here, and those that Debian has besides, which are fetched when the settings are applied.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, type Settings, type SettingsData } from "./api"
import { Notice, Word } from "./ui"

interface Chosen {
  php: string
  data: SettingsData
  settings: Settings
  edit: (change: Partial<Settings>) => void
}

export function Extensions({ php, data, settings, edit }: Chosen) {
  const set = (name: string, on: boolean) => edit({ extensions: { ...settings.extensions, [name]: on } })
  const names = [...new Set([...data.extensions, ...Object.keys(settings.extensions ?? {})])].sort()
  return (
    <>
      <h2 className="mb-1 text-[15px] font-semibold">Extensions</h2>
      <div className="flex flex-wrap gap-x-4 gap-y-0.5">
        {names.map((x) => (
          <label key={x} className="flex items-center gap-1.5 font-mono text-[13px]">
            <input
              type="checkbox"
              className="accent-(--accent)"
              checked={settings.extensions?.[x] ?? !data.extras.includes(x)}
              onChange={(e) => set(x, e.target.checked)}
            />{" "}
            {x}
          </label>
        ))}
      </div>
      <Further php={php} known={names} add={(name) => set(name, true)} />
    </>
  )
}

// Further asks what Debian has besides, once somebody wants to know.
function Further({ php, known, add }: { php: string; known: string[]; add: (name: string) => void }) {
  const [wanted, setWanted] = useState(false)
  const all = useQuery({
    enabled: wanted,
    queryKey: ["extensions", php],
    queryFn: () => answer(api.GET("/api/v1/engines/{id}/extensions", of({ id: php }))),
    staleTime: Infinity,
  })
  if (!wanted)
    return (
      <Word className="mt-1 text-[13px]" onClick={() => setWanted(true)}>
        another one, from Debian…
      </Word>
    )
  if (all.isError) return <Notice tone="fail">{all.error.message}</Notice>
  return (
    <label className="mt-1 block text-[13px] text-soft">
      Another one, fetched when you apply it:{" "}
      <select
        name="extension"
        value=""
        disabled={!all.data}
        onChange={(e) => add(e.target.value)}
        className="max-w-full border-b border-line-strong bg-transparent font-mono text-ink"
      >
        <option value="">{all.data ? "choose…" : "Debian's archive is asked…"}</option>
        {all.data
          ?.filter((x) => !known.includes(x.name))
          .map((x) => (
            <option key={x.name} value={x.name}>
              {x.name}: {x.about}
            </option>
          ))}
      </select>
    </label>
  )
}
