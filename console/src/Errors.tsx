// Errors: what PHP of a site complained of, by the place in the code, with the lines around it.
import { useQuery } from "@tanstack/react-query"
import { answer, api, of, queries, type PHPError } from "./api"
import { Crumbs, Mono, Notice, Word } from "./ui"

const look = 2000 // how often it is read, in milliseconds

export function ErrorsPage({ name }: { name: string }) {
  const said = useQuery({
    queryKey: ["errors", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/errors", of({ name }))),
    refetchInterval: look,
  })
  const forget = async () => {
    await answer(api.DELETE("/api/v1/sites/{name}/errors", of({ name })))
    await queries.invalidateQueries({ queryKey: ["errors"] })
  }
  return (
    <>
      <Crumbs name={name} here="errors" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">What PHP said</h1>
      <p className="mt-1 flex max-w-3xl flex-wrap items-baseline gap-x-6 text-soft">
        Counted by the place in the code, the last first.
        {!!said.data?.length && <Word onClick={() => void forget()}>forget it</Word>}
      </p>
      {said.isError && <Notice tone="fail">{said.error.message}</Notice>}
      {said.data?.length === 0 && <p className="py-4 text-soft">PHP complained of nothing.</p>}
      {!said.data && !said.isError && <div className="mt-4 h-24 animate-pulse bg-wash" aria-busy />}
      <ol className="mt-4">
        {said.data?.map((e) => (
          <Place key={e.kind + e.file + e.line} said={e} />
        ))}
      </ol>
    </>
  )
}

const times = (at: string) => new Date(at).toLocaleString("sv")

function Place({ said: e }: { said: PHPError }) {
  const [first, ...rest] = e.text.split("\n")
  return (
    <li data-place={`${e.file}:${e.line}`} className="border-t border-line py-3">
      <p>
        <b className={e.kind === "error" ? "text-fail" : ""}>{e.kind}</b> {first}
      </p>
      {rest.length > 0 && (
        <pre className="overflow-x-auto whitespace-pre-wrap break-all font-mono text-[13px] text-soft">
          {rest.join("\n")}
        </pre>
      )}
      <p className="text-[13px] text-soft">
        <Mono className="break-all text-ink">
          {e.file}:{e.line}
        </Mono>{" "}
        {e.count === 1
          ? `once, at ${times(e.last_at)}`
          : `${e.count} times, first at ${times(e.first_at)}, last at ${times(e.last_at)}`}
        {e.request && (
          <>
            , for <Mono className="break-all">{e.request}</Mono>
          </>
        )}
      </p>
      {e.source && (
        <pre
          // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls where it is wider than the page
          tabIndex={0}
          aria-label={`Around line ${e.line}`}
          className="mt-2 overflow-x-auto border-l border-line pl-3 font-mono text-[13px] leading-snug"
        >
          {e.source.map((line) => (
            <span key={line.line} className="block">
              <span className="inline-block w-12 select-none text-soft">{line.line}</span>
              {line.line === e.line ? (
                <mark className="bg-wash font-medium text-ink">{line.text}</mark>
              ) : (
                line.text
              )}
            </span>
          ))}
        </pre>
      )}
    </li>
  )
}
