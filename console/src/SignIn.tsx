export function SignIn({ used }: { used: boolean }) {
  return (
    <main className="mx-auto max-w-xl px-6 pt-[18vh]">
      <h1 className="text-3xl font-bold tracking-tight">Sign in to Vessik</h1>
      <p className="mt-4 text-lg">
        {used
          ? "That link has been used, or is older than five minutes. Ask for another one:"
          : "Ask for a link in your terminal, and open it here:"}
      </p>
      <pre className="mt-4 border-l-4 border-accent bg-wash px-5 py-3 font-mono">vessik console</pre>
      <p className="mt-4 text-soft">
        Each link signs one browser in, until twelve hours pass without use. There is no password to remember,
        and none to leak.
      </p>
    </main>
  )
}
