// Where else a site lives: the hosting accounts that it came from or went to.
import { Link } from "wouter"
import { useAccounts } from "./Hosting"
import { Mono } from "./ui"

export function Elsewhere({ name }: { name: string }) {
  const all = (useAccounts().data ?? []).filter((a) => a.site === name)
  if (all.length === 0) return null
  const line = [...all].sort((a, b) => Number(!a.of) - Number(!b.of)) // staging stands before the live one
  return (
    <section className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">Where else it lives</h2>
      <ol className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-t border-line py-1.5">
        <li>here</li>
        {line.map((a) => (
          <li key={a.name} className="flex flex-wrap items-baseline gap-x-3">
            <span aria-hidden className="text-soft">
              ⇄
            </span>
            <Link
              href="/hosting"
              className="font-medium underline decoration-accent decoration-2 underline-offset-4"
            >
              {a.name}
            </Link>
            <Mono>{a.url}</Mono>
            <span className="text-[13px] text-soft">
              {a.pulled && `fetched ${new Date(a.pulled.at ?? 0).toLocaleString()}`}
            </span>
          </li>
        ))}
      </ol>
    </section>
  )
}
