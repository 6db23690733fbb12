// Limits of a site: what it may take, what it takes at this moment, and what is to be changed of it.
import { type Settings, type SettingsData } from "./api"

const megabyte = 1048576
const words = {
  memory: "memory in each cell",
  processes: "processes and threads in each cell",
  disk: "disk, its folder",
  processor: "processor in each cell",
} as const
const units = { memory: megabyte, processes: 1, disk: megabyte, processor: 1 } as const
const suffix = { memory: "MB, ", processes: "", disk: "MB, ", processor: "% of one, " } as const

export function Limits({
  page,
  settings,
  edit,
}: {
  page: SettingsData
  settings: Settings
  edit: (change: Partial<Settings>) => void
}) {
  return (
    <>
      <h2 className="mb-1 mt-6 text-[15px] font-semibold">What it may take</h2>
      {page.limits.map((limit) => {
        const unit = units[limit.name]
        const own = settings[limit.name] ?? 0
        const most = own > 0 ? own : limit.name === "memory" || limit.name === "processes" ? limit.most : 0
        return (
          <label
            key={limit.name}
            className="grid grid-cols-[minmax(0,1fr)_6rem_9rem] items-baseline gap-x-3 border-t border-line py-1"
          >
            <span>{words[limit.name]}</span>
            <input
              name={limit.name}
              inputMode="numeric"
              value={own > 0 ? Math.round(own / unit) : ""}
              placeholder={most > 0 ? String(Math.round(most / unit)) : "no limit"}
              onChange={(e) => edit({ [limit.name]: (Number(e.target.value) || 0) * unit })}
              className="border-b border-line-strong bg-transparent text-right font-mono text-[13px] placeholder:text-faint"
            />
            <span className="text-[13px] text-soft">
              {suffix[limit.name]}
              {Math.ceil(limit.used / unit)} used
            </span>
          </label>
        )
      })}
    </>
  )
}
