// In a frame of the console's page of screen sizes: tells how far down it is, and follows the others.
(() => {
  const console = document.currentScript.dataset.console
  const root = document.documentElement
  const room = () => Math.max(1, root.scrollHeight - innerHeight)
  let led
  addEventListener("message", (e) => {
    if (e.origin !== console || typeof e.data?.vessikScroll !== "number") return
    led = Math.round(e.data.vessikScroll * room())
    scrollTo({ top: led, behavior: "instant" })
  })
  addEventListener(
    "scroll",
    () => {
      if (led === undefined || Math.abs(scrollY - led) > 1) parent.postMessage({ vessikScroll: scrollY / room() }, console)
      led = undefined
    },
    { passive: true },
  )
})()
