package harbour

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

var (
	quays    = []string{"North Mole", "Lantern Quay", "Coopers Steps", "Herring Wall", "Saltgate", "Old Basin", "Tar Wharf", "Customs Quay", "Far Mole", "Rope Walk", "St Ebba's Quay", "Köhler Ufer"}
	zones    = []string{"A", "B", "C", "D"}
	goods    = []string{"timber", "salt", "grain", "tar", "slate", "wool", "dried fish", "iron bar"}
	birds    = []string{"Kestrel", "Dunlin", "Plover", "Whimbrel", "Fulmar", "Sanderling", "Guillemot", "Petrel", "Avocet", "Turnstone", "Cormorant", "Ørn", "Heron"}
	surnames = []string{"Aldous", "Brackwater", "Corrie", "Denholm", "Eskdale", "Fenwright", "Gorse", "Hallam", "Iversen", "Jorrold", "Kvist", "Lömann"}
	remarks  = []string{"pilot taken at the bar", "waiting for the tide", "moor with care", "shifted to another berth", "provisions taken", "no remarks", "ice in the basin", "harbour dues paid at the office"}
)

// start of the visits; each arrives a little after the one before.
var start = time.Date(2019, 3, 1, 5, 30, 0, 0, time.UTC)

type generator struct {
	r    *rand.Rand
	rows int
}

func pick[T any](g *generator, list []T) T { return list[g.r.IntN(len(list))] }

// one is true once in n times.
func (g *generator) one(n int) bool { return g.r.IntN(n) == 0 }

func (g *generator) cents(lo, hi int) string {
	c := lo + g.r.IntN(hi-lo)
	return fmt.Sprintf("%d.%02d", c/100, c%100)
}

// count makes a table of n rows out of a function of the row's number.
func count(n int, row func(i int) []any) next {
	i := 0
	return func() []any {
		if i >= n {
			return nil
		}
		i++
		return row(i)
	}
}

func (g *generator) vessels() int { return max(60, g.rows/20) }

func (g *generator) table(name string) next {
	switch name {
	case "quay":
		return count(len(quays), func(i int) []any { return []any{i, quays[i-1], pick(g, zones)} })
	case "berth":
		return count(10*len(quays), g.berth)
	case "tariff":
		return count(len(zones)*len(goods), func(i int) []any {
			return []any{zones[(i-1)/len(goods)], goods[(i-1)%len(goods)], g.cents(40, 900) + "5"}
		})
	case "vessel":
		return count(g.vessels(), g.vessel)
	case "visit":
		return count(g.rows, g.visit)
	case "cargo_line":
		return g.cargo()
	case "notice":
		return count(max(60, g.rows/100), g.notice)
	case "setting":
		return count(40, g.setting)
	case "bollard":
		return count(bollards, func(i int) []any { return []any{i, 101 + (i-1)%(10*len(quays)), 20 + 5*g.r.IntN(9)} })
	case "inspection":
		return count(3*bollards, g.inspection)
	}
	return count(30, g.crane)
}

// bollards are six at each berth.
var bollards = 60 * len(quays)

func (g *generator) inspection(i int) []any {
	var finding any
	if g.one(4) {
		finding = pick(g, []string{"rust", "loose anchor", "crack in the base", ""})
	}
	return []any{i, (i-1)/3 + 1, start.AddDate(0, g.r.IntN(60), 0).Format("2006-01-02"), finding}
}

func (g *generator) crane(i int) []any {
	var berth any
	if !g.one(5) {
		berth = 101 + g.r.IntN(10*len(quays))
	}
	return []any{i, "Crane " + strconv.Itoa(i), berth}
}

func (g *generator) berth(i int) []any {
	var zone, closed, revised any = pick(g, zones), nil, nil
	switch g.r.IntN(8) { // a zone nobody knows, beside a number that everybody knows
	case 0:
		zone = nil
	case 1:
		zone = ""
	case 2:
		zone = "?"
	}
	if g.one(9) {
		closed = start.AddDate(0, g.r.IntN(60), 0).Format("2006-01-02")
	}
	if g.one(3) {
		revised = "tariff office"
	}
	return []any{100 + i, (i-1)/10 + 1, zone, g.cents(4000, 60000), closed, revised}
}

func (g *generator) vessel(i int) []any {
	name := pick(g, birds)
	if n := i / len(birds); n > 0 && !g.one(15) { // some names come twice
		name += " " + strconv.Itoa(n)
	}
	switch g.r.IntN(6) {
	case 0:
		name = "MV " + name
	case 1:
		name = "The " + name
	case 2:
		name = "M/V " + strings.ToUpper(name)
	}
	var master any
	switch surname := pick(g, surnames); g.r.IntN(7) {
	case 0:
	case 1:
		master = ""
	case 2:
		master = string(rune('A'+g.r.IntN(26))) + ". " + surname
	default:
		master = surname + ", " + string(rune('A'+g.r.IntN(26)))
	}
	return []any{i, name, master, fmt.Sprintf("%d.%d", 9+g.r.IntN(140), g.r.IntN(10))}
}

func (g *generator) visit(i int) []any {
	berth := 101 + g.r.IntN(10*len(quays))
	var berthNo, zone, quay, left, dues, note any = berth, pick(g, zones), quays[(berth-101)/10], nil, g.cents(1500, 250000), nil
	if g.one(12) {
		zone = []any{nil, "", "?"}[g.r.IntN(3)]
	}
	switch g.r.IntN(40) {
	case 0:
		quay = nil
	case 1:
		quay = ""
	case 2:
		quay = shout(quays[(berth-101)/10])
	case 3:
		berthNo = nil
	}
	arrived := start.Add(time.Duration(i) * 7 * time.Minute)
	if !g.one(25) {
		left = arrived.Add(time.Duration(2+g.r.IntN(90)) * time.Hour).Format("2006-01-02 15:04:05")
	}
	if g.one(30) {
		dues = nil
	}
	switch g.r.IntN(16) {
	case 0, 1:
		note = fmt.Sprintf("see http://charts.saltmere.test/berth/%d before mooring; %s", berth, pick(g, remarks))
	case 2:
		note = "master says &quot;" + pick(g, remarks) + "&quot;"
	case 3:
		note = ""
	case 4, 5:
	default:
		note = pick(g, remarks)
	}
	return []any{i, 1 + g.r.IntN(g.vessels()), berthNo, zone, quay, nil, arrived.Format("2006-01-02 15:04:05"), left, dues, g.one(5), note}
}

// shout writes a name in capitals, as SQLite's upper() knows them: only those
// of ASCII, so that the demo's job means the same on every engine.
func shout(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r - 'a' + 'A'
		}
		return r
	}, s)
}

// cargo gives about every second visit one to three lines.
func (g *generator) cargo() next {
	visit, line, lines := 0, 0, 0
	return func() []any {
		for line >= lines {
			visit++
			if visit > g.rows {
				return nil
			}
			line, lines = 0, max(0, g.r.IntN(7)-3)
		}
		line++
		tonnes := g.cents(100, 80000) + "5"
		if g.one(20) {
			tonnes = "0.000"
		}
		return []any{visit, line, pick(g, goods), tonnes}
	}
}

func (g *generator) notice(i int) []any {
	word := []string{"moor", "Moor", "MOOR", "mooring", "moorland"}[g.r.IntN(5)]
	link := []string{"http://charts.saltmere.test", "http://www.charts.saltmere.test/", "https://charts.saltmere.test", "HTTP://CHARTS.SALTMERE.TEST/"}[g.r.IntN(4)]
	var body any = fmt.Sprintf("<p>Before you %s at %s, look at <a href=\"%s/sheet/%d\">the chart</a>. &quot;%s&quot; &amp; slack water at %02d:%02d.</p>",
		word, pick(g, quays), link, i, pick(g, remarks), g.r.IntN(24), g.r.IntN(60))
	if g.one(20) {
		body = nil
	}
	return []any{i, fmt.Sprintf("notice-%d", i), fmt.Sprintf("Notice %d: %s", i, pick(g, quays)), body}
}

// setting holds JSON with escaped slashes, and text in which every string is
// preceded by its length in bytes.
func (g *generator) setting(i int) []any {
	link := fmt.Sprintf("http://charts.saltmere.test/%s/%d", strings.ToLower(pick(g, zones)), i)
	name := fmt.Sprintf("office.%02d.", i)
	switch i % 4 {
	case 0:
		return []any{name + "links", `{"charts":"` + strings.ReplaceAll(link, "/", `\/`) + `", "quay": "` + pick(g, quays) + `", "open": true}`}
	case 1:
		return []any{name + "menu", fmt.Sprintf(`a:2:{s:6:"charts";s:%d:"%s";s:4:"quay";s:%d:"%s";}`, len(link), link, len(quays[11]), quays[11])}
	case 2:
		return []any{name + "home", link}
	}
	return []any{name + "greeting", ""}
}
