// How a document looks on paper. What people typed comes as strings and is never read as markup.
#let d = json("document.json")
#let ink = rgb("#17232d")
#let soft = rgb("#55616b")
#let line-colour = rgb("#b9b29d")
#let hair = rgb("#dad5c6")
#let lines(words) = words.split("\n").join(linebreak())
#let label-size = d.label

#set document(title: d.title, author: "Havrel")
#set text(font: ("Atkinson Hyperlegible Next", "Atkinson Next Ext"), size: 9pt, fill: ink, lang: "en", number-width: "tabular")
#set par(leading: 0.55em)
#set page(paper: "a4", margin: (x: 17mm, top: 16mm, bottom: 18mm), footer: context {
  set text(size: 8pt, fill: soft)
  grid(columns: (1fr, auto), d.title, [page #counter(page).display() of #counter(page).final().first()])
}) if label-size == none
#set page(width: label-size.at(0) * 1mm, height: label-size.at(1) * 1mm, margin: 2.5mm) if label-size != none
#let head-size = if label-size == none { 17pt } else { 11pt }
#show heading: it => block(above: 1.4em, below: 0.7em, text(size: if it.level == 1 { head-size } else { calc.min(11pt, head-size) }, it.body))
#set table(stroke: none, inset: (x: 0pt, y: 3pt), column-gutter: 7pt)
#show table.cell.where(y: 0): set text(fill: soft, weight: "bold")

#heading(level: 1, d.title)
#if d.facts.len() > 0 {
  grid(columns: (auto, 1fr), column-gutter: 12pt, row-gutter: 4pt,
    ..d.facts.map(f => (text(fill: soft, f.at(0)), f.at(1))).flatten())
}

#for part in d.parts {
  if "text" in part { block(above: 1.1em, lines(part.text)) }
  if "pairs" in part {
    block(above: 1em, grid(columns: (auto, 1fr), column-gutter: 10pt, row-gutter: 5pt,
      ..part.pairs.map(p => (text(fill: soft, p.at(0)), text(weight: "bold", p.at(1)))).flatten()))
  }
  if "heading" in part { heading(level: 2, part.heading) }
  if "note" in part { block(above: 1em, text(fill: soft, lines(part.note))) }
  if "table" in part {
    let head = part.table.head
    block(above: 1.2em, width: 100%, {
      set text(size: 8pt)
      table(
        // Short columns take what they need, long ones share the rest.
        columns: head.enumerate().map(((i, h)) => {
          let longest = calc.max(h.at(0).len(), ..part.table.rows.map(row => row.at(i).len()))
          if h.at(1) or longest < 28 { auto } else { 1fr }
        }),
        align: head.map(h => if h.at(1) { right } else { left }),
        table.header(repeat: true, ..head.map(h => h.at(0)), table.hline(stroke: 0.5pt + line-colour)),
        ..part.table.rows.map(row => (..row, table.hline(stroke: 0.3pt + hair))).flatten(),
      )
    })
  }
  if "picture" in part {
    block(above: 1em, breakable: false, width: 100%, {
      if part.picture.title != "" { text(weight: "bold", part.picture.title) }
      v(2pt, weak: true)
      image(bytes(part.picture.svg), format: "svg", width: 100%)
    })
  }
}
