// Package report puts words to what the core finds, as pages that people paste into records and
// print: Markdown, and HTML that needs no other file. The same findings give the same page, byte
// for byte.
package report

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html"
	"strings"
)

// Document is a page: a title and blocks in their order.
type Document struct {
	Title  string
	Blocks []Block
}

// Block is one of Heading, Paragraph, List and Table.
type Block interface{ block() }

// Heading opens a part of the page.
type Heading string

// Paragraph is running text.
type Paragraph string

// List has points.
type List []string

// Table has a header and rows of as many cells.
type Table struct {
	Header []string
	Rows   [][]string
}

func (Heading) block()   {}
func (Paragraph) block() {}
func (List) block()      {}
func (Table) block()     {}

func (d *Document) heading(text string) { d.Blocks = append(d.Blocks, Heading(text)) }

func (d *Document) say(format string, args ...any) {
	d.Blocks = append(d.Blocks, Paragraph(fmt.Sprintf(format, args...)))
}

func (d *Document) list(points []string) {
	if len(points) > 0 {
		d.Blocks = append(d.Blocks, List(points))
	}
}

// markdownEscapes keeps texts of people from being taken for marks.
var markdownEscapes = strings.NewReplacer(
	`\`,
	`\\`,
	"*",
	`\*`,
	"_",
	`\_`,
	"`",
	"\\`",
	"[",
	`\[`,
	"]",
	`\]`,
	"<",
	`&lt;`,
	">",
	`&gt;`,
	"#",
	`\#`,
	"|",
	`\|`,
	"\n",
	" ",
	"\r",
	" ",
)

// Markdown gives the page as Markdown (CommonMark, with tables).
func (d *Document) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", markdownEscapes.Replace(d.Title))
	for _, block := range d.Blocks {
		b.WriteByte('\n')
		switch x := block.(type) {
		case Heading:
			fmt.Fprintf(&b, "## %s\n", markdownEscapes.Replace(string(x)))
		case Paragraph:
			fmt.Fprintf(&b, "%s\n", markdownEscapes.Replace(string(x)))
		case List:
			for _, point := range x {
				fmt.Fprintf(&b, "- %s\n", markdownEscapes.Replace(point))
			}
		case Table:
			writeRow(&b, x.Header)
			b.WriteString(strings.Repeat("| --- ", len(x.Header)) + "|\n")
			for _, row := range x.Rows {
				writeRow(&b, row)
			}
		}
	}
	return b.String()
}

func writeRow(b *strings.Builder, cells []string) {
	for _, c := range cells {
		fmt.Fprintf(b, "| %s ", markdownEscapes.Replace(c))
	}
	b.WriteString("|\n")
}

const style = `body{font:15px/1.5 Inter,system-ui,sans-serif;color:#16283c;background:#fff;max-width:58rem;margin:2rem auto;padding:0 1.5rem}
h1{font-size:1.5rem;margin:0 0 1rem}h2{font-size:1.05rem;margin:1.75rem 0 .5rem;border-bottom:1px solid #d5dee7;padding-bottom:.25rem}
table{border-collapse:collapse;width:100%;font-size:14px}th,td{text-align:left;vertical-align:top;padding:.35rem .6rem;border-bottom:1px solid #d5dee7}
th{font-weight:600;background:#f3f6f9}ul{padding-left:1.25rem;margin:.25rem 0}td{min-width:4.5rem}td,li,p{overflow-wrap:anywhere}
@media print{body{margin:0;max-width:none}h2{break-after:avoid}tr{break-inside:avoid}}
@media(prefers-color-scheme:dark){body{color:#dbe6f0;background:#0d1826}th{background:#16263a}th,td,h2{border-color:#2b3e54}}`

// PagePolicy is the content security policy under which a page is served: it shows itself, in its
// own style, and loads nothing.
var PagePolicy = func() string {
	sum := sha256.Sum256([]byte(style))
	return "default-src 'none'; img-src data:; style-src 'sha256-" + base64.StdEncoding.EncodeToString(
		sum[:],
	) + "'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
}()

// HTML gives the page as HTML that needs nothing else.
func (d *Document) HTML() string {
	var b strings.Builder
	title := html.EscapeString(d.Title)
	fmt.Fprintf(
		&b,
		"<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n"+
			"<link rel=\"icon\" href=\"data:,\">\n<title>%s</title>\n<style>%s</style>\n</head>\n<body>\n<h1>%s</h1>\n",
		title,
		style,
		title,
	)
	for _, block := range d.Blocks {
		switch x := block.(type) {
		case Heading:
			fmt.Fprintf(&b, "<h2>%s</h2>\n", html.EscapeString(string(x)))
		case Paragraph:
			fmt.Fprintf(&b, "<p>%s</p>\n", html.EscapeString(string(x)))
		case List:
			b.WriteString("<ul>\n")
			for _, point := range x {
				fmt.Fprintf(&b, "<li>%s</li>\n", html.EscapeString(point))
			}
			b.WriteString("</ul>\n")
		case Table:
			b.WriteString("<table>\n<thead><tr>")
			for _, c := range x.Header {
				fmt.Fprintf(&b, "<th scope=\"col\">%s</th>", html.EscapeString(c))
			}
			b.WriteString("</tr></thead>\n<tbody>\n")
			for _, row := range x.Rows {
				b.WriteString("<tr>")
				for _, c := range row {
					fmt.Fprintf(&b, "<td>%s</td>", html.EscapeString(c))
				}
				b.WriteString("</tr>\n")
			}
			b.WriteString("</tbody>\n</table>\n")
		}
	}
	b.WriteString("</body>\n</html>\n")
	return b.String()
}
