// Fields of the form in which a site is described.
import { useId, type ReactNode } from "react"
import { type Problem } from "./api"

// Part is one of the further choices' groups.
export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-5 border-t border-line pt-2">
      <h3 className="mb-1.5 text-[13px] font-semibold">{title}</h3>
      <div className="grid grid-cols-4 gap-x-7 gap-y-3">{children}</div>
    </section>
  )
}

export function NameField({
  value,
  problem,
  onChange,
}: {
  value: string
  problem?: Problem
  onChange: (value: string) => void
}) {
  const id = useId()
  return (
    <div className="w-80 max-w-full shrink-0">
      <label htmlFor={id} className="text-[13px] text-soft">
        Name of the new site
      </label>
      <input
        id={id}
        name="name"
        autoFocus
        autoComplete="off"
        spellCheck={false}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        placeholder="orchard-days"
        aria-invalid={!!problem}
        aria-describedby={id + "-problem"}
        className={`w-full border-b-2 bg-transparent pb-1 font-mono text-[20px] placeholder:text-faint ${problem ? "border-fail" : "border-ink"}`}
      />
      <p id={id + "-problem"} role="alert" className="min-h-5 pt-0.5 text-[13px] leading-tight text-fail">
        {problem && `${problem.message}; ${problem.remedy}`}
      </p>
    </div>
  )
}

export function Input({
  label,
  value,
  usual,
  problem,
  onChange,
  type = "text",
}: {
  label: string
  value: string | number
  usual: string
  problem?: Problem
  onChange: (value: string) => void
  type?: string
}) {
  const id = useId()
  const Box = String(value).includes("\n") ? "textarea" : "input" // several, one a line
  return (
    <div className="min-w-0">
      <label htmlFor={id} className="text-[13px] text-soft">
        {label}
      </label>
      <Box
        id={id}
        type={type}
        autoComplete="off"
        spellCheck={false}
        value={value}
        placeholder={usual}
        title={value === "" ? usual : undefined}
        onChange={(e: { target: { value: string } }) => onChange(e.target.value)}
        aria-invalid={!!problem}
        aria-describedby={problem ? id + "-problem" : undefined}
        className={`w-full border-b bg-transparent py-1 font-mono text-[13px] placeholder:text-soft ${problem ? "border-fail" : "border-line-strong"}`}
      />
      {problem && (
        <p id={id + "-problem"} role="alert" className="pt-0.5 text-[13px] leading-tight text-fail">
          {problem.message}; {problem.remedy}
        </p>
      )}
    </div>
  )
}
