// What axe-core, whose source stands before this, finds on a page against WCAG 2.2, levels A and AA: a line a rule, with the first element.
axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"], resultTypes: ["violations"], iframes: false }).then((result) =>
  JSON.stringify(
    result.violations.map((rule) => ({
      Where: rule.id,
      Text:
        rule.help + ": " + rule.nodes[0].target.join(" ") + (rule.nodes.length > 1 ? ` and ${rule.nodes.length - 1} more` : ""),
    })),
  ),
)
