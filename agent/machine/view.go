package machine

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"

	"jugate/agent"
)

// view is what the screen shows. Its lines are made anew for each picture.
type view struct {
	name    string // of the workstation; empty until it is admitted
	address string // hardware address
	model   string
	service string
	outpost string   // that this machine is, which it calls in place of the service; empty if it is none
	network []string // what is to be said of it, a line each
	status  agent.Status
	rate    float64 // bytes a second; 0 if unknown
	left    time.Duration
	page    page // in place of the status, if somebody is at the keyboard
	keys    string
}

// page is a screen that a person has asked for.
type page struct {
	title string
	lines []string
	input string // what was typed, after a prompt
	ask   string // the prompt; empty without an input
}

// style is how a line is drawn.
type style int

const (
	plain style = iota
	bold
	banner // inverse, as wide as the screen
)

type line struct {
	text  string
	style style
}

// margin is free on both sides: on some screens the edge cannot be seen.
const margin = 2

// lines draws the view on a screen of that many columns and rows. Little is on it,
// so that it can be read from two metres: who this is, what goes on, and how far.
func (v *view) lines(columns, rows int) []line {
	width := max(columns-2*margin, 20)
	who := v.name
	if who == "" {
		who = "newcomer"
	}
	out := []line{
		{spread(" Jugate", who+" ", columns), banner},
		{},
		{v.address, bold},
	}
	if v.model != "" {
		out = append(out, line{v.model, plain})
	}
	if v.outpost != "" {
		out = append(out, line{"outpost " + v.outpost + ", on this machine", plain})
	} else if v.service != "" {
		out = append(out, line{"service " + v.service, plain})
	}
	out = append(out, line{})
	if v.page.title != "" {
		for _, part := range wrap(v.page.title, width) { // an error can be long
			out = append(out, line{part, bold})
		}
		out = append(out, line{})
		for _, l := range v.page.lines {
			parts := wrap(l, width)
			if l == "" {
				parts = []string{""}
			}
			for _, part := range parts {
				out = append(out, line{part, plain})
			}
		}
		if v.page.ask != "" {
			out = append(out, line{}, line{v.page.ask + " " + v.page.input + "_", bold})
		}
	} else {
		for _, part := range wrap(sentence(v.status.Text), width) {
			out = append(out, line{part, bold})
		}
		if v.status.Total > 0 {
			out = append(out, line{}, line{bar(v.status.Done, v.status.Total, width), plain}, line{v.progress(width), bold})
		}
		if len(v.network) > 0 {
			out = append(out, line{})
		}
		for _, l := range v.network {
			for _, part := range wrap(l, width) {
				out = append(out, line{part, plain})
			}
		}
	}
	for i := range out {
		if out[i].style != banner && out[i].text != "" {
			out[i].text = strings.Repeat(" ", margin) + out[i].text
		}
	}
	keys := hints(v.keys, columns-1)
	if foot := rows - len(keys); v.keys != "" && foot > 3 {
		for len(out) < foot {
			out = append(out, line{})
		}
		out = out[:foot]
		for _, k := range keys {
			out = append(out, line{spread(" "+k, "", columns), banner})
		}
	}
	if len(out) > rows {
		out = out[:rows]
	}
	return out
}

// progress is the line under the bar.
func (v *view) progress(width int) string {
	parts := []string{fmt.Sprintf("%d %%", v.status.Done*100/v.status.Total),
		fmt.Sprintf("%s of %s", humanize.Bytes(uint64(v.status.Done)), humanize.Bytes(uint64(v.status.Total)))}
	if v.rate > 0 {
		parts = append(parts, humanize.Bytes(uint64(v.rate))+"/s")
	}
	if v.left > 0 {
		parts = append(parts, v.left.Round(time.Second).String()+" left")
	}
	text := strings.Join(parts, "   ")
	if utf8.RuneCountInString(text) > width {
		text = strings.Join(parts, " ")
	}
	return text
}

// bar is a bar of blocks.
func bar(done, total int64, width int) string {
	full := int(min(max(done, 0), total) * int64(width) / total)
	return strings.Repeat("█", full) + strings.Repeat("░", width-full)
}

// spread puts one text to the left and one to the right.
func spread(left, right string, width int) string {
	gap := width - utf8.RuneCountInString(left) - utf8.RuneCountInString(right)
	if gap < 1 {
		return string([]rune(left + " " + right)[:width])
	}
	return left + strings.Repeat(" ", gap) + right
}

// hints breaks a line of keys, with several spaces between two, into as many lines as they need.
func hints(keys string, width int) (lines []string) {
	for _, key := range strings.Split(keys, "  ") {
		last := len(lines) - 1
		switch key = strings.TrimSpace(key); {
		case key == "":
		case last >= 0 && utf8.RuneCountInString(lines[last])+2+utf8.RuneCountInString(key) <= width:
			lines[last] += "  " + key
		default:
			lines = append(lines, key)
		}
	}
	return lines
}

// wrap breaks a text into lines between words.
func wrap(text string, width int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		switch {
		case line == "":
			line = word
		case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) <= width:
			line += " " + word
		default:
			lines = append(lines, line)
			line = word
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// sentence begins with a capital letter.
func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
