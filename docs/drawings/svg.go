package main

import (
	"bytes"
	"fmt"
	"html"
)

// The colours of the console: an engineer's drawing on a calm sheet.
const (
	sheet = "#faf8f3"
	ink   = "#22303a"
	soft  = "#62707a"
	line  = "#c9c4b8"
	span  = "#1f6f78"
)

// canvas gathers an SVG drawing (W3C, SVG 1.1).
type canvas struct{ bytes.Buffer }

func newCanvas(width, height int, title string) *canvas {
	c := &canvas{}
	fmt.Fprintf(c, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" font-family="system-ui, sans-serif" font-size="13" role="img" aria-label="%s">`+"\n", width, height, width, height, html.EscapeString(title))
	fmt.Fprintf(c, `<defs><marker id="end" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto-start-reverse"><path d="M0 0 8 4 0 8z" fill="%s"/></marker></defs>`+"\n", span)
	fmt.Fprintf(c, `<rect width="100%%" height="100%%" fill="%s"/>`+"\n", sheet)
	return c
}

func (c *canvas) close() []byte {
	c.WriteString("</svg>\n")
	return c.Bytes()
}

func (c *canvas) box(x, y, width, height int, stroke string) {
	fmt.Fprintf(c, `<rect x="%d" y="%d" width="%d" height="%d" fill="%s" stroke="%s"/>`+"\n", x, y, width, height, sheet, stroke)
}

func (c *canvas) text(x, y int, anchor, weight, colour, text string) {
	fmt.Fprintf(c, `<text x="%d" y="%d" text-anchor="%s" font-weight="%s" fill="%s">%s</text>`+"\n", x, y, anchor, weight, colour, html.EscapeString(text))
}

func (c *canvas) rule(x1, y1, x2, y2 int, colour, dash string) {
	fmt.Fprintf(c, `<path d="M%d %dL%d %d" stroke="%s" stroke-dasharray="%s" fill="none"/>`+"\n", x1, y1, x2, y2, colour, dash)
}

func (c *canvas) arrow(x1, y1, x2, y2 int) {
	fmt.Fprintf(c, `<path d="M%d %dL%d %d" stroke="%s" fill="none" marker-end="url(#end)"/>`+"\n", x1, y1, x2, y2, span)
}

// curve is an arrow from the bottom of one box to the top of another one.
func (c *canvas) curve(x1, y1, x2, y2 int) {
	bend := (y2 - y1) / 2
	fmt.Fprintf(c, `<path d="M%d %dC%d %d %d %d %d %d" stroke="%s" stroke-opacity="0.55" fill="none" marker-end="url(#end)"/>`+"\n", x1, y1, x1, y1+bend, x2, y2-bend, x2, y2-2, span)
}
