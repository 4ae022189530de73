package demo

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
)

const logDays = 40

var remarks = []string{"", "", "", "clear", "fog until noon", "snow; path marked anew", "stove smokes", "two walkers late,\nboth well",
	"said \"back on Sunday\"", "water pump frozen\nthawed by ten\nholds now"}

var pathCodes = []string{"L4-ridge", "L4-valley", "D1-scree", "D2-lake", "S7-col", "O3-north"}

// WardenLogs writes a file for each warden's hut and day, as wardens type them:
// decimal commas, three ways to write a date, remarks over several lines, and
// here and there a slip.
func (g *Generator) WardenLogs(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	r := g.random("warden logs")
	days := max(2, min(logDays, int(logDays*g.Scale)))
	for _, h := range g.huts {
		if !h.warden {
			continue
		}
		for d := 1; d <= days; d++ {
			day := g.Today.AddDate(0, 0, -d)
			name := fmt.Sprintf("warden_log_%s_%s.csv", strings.ToLower(h.code), day.Format("2006-01-02"))
			if err := os.WriteFile(filepath.Join(folder, name), []byte(dayLog(r, h, day)), 0o644); err != nil {
				return err
			}
		}
	}
	var paths strings.Builder
	paths.WriteString("path,name,open\n")
	for _, p := range pathCodes {
		fmt.Fprintf(&paths, "%s,%s,%t\n", p, strings.ReplaceAll(p[3:], "-", " "), p != "S7-col")
	}
	return os.WriteFile(filepath.Join(folder, "paths.csv"), []byte(paths.String()), 0o644)
}

func dayLog(r *rand.Rand, h hut, day time.Time) string {
	style := []string{"2006-01-02", "02.01.2006", "02 Jan 2006"}[h.id%3]
	var out strings.Builder
	out.WriteString("hut;date;time;water level;path;walkers;remark\n")
	for hour := 6; hour <= 21; hour += 3 {
		level := strings.Replace(fmt.Sprintf("%.2f", 0.8+r.Float64()*2.4), ".", ",", 1)
		walkers, date := fmt.Sprint(r.IntN(40)), day.Format(style)
		switch slip := r.IntN(400); {
		case slip == 0:
			level = pick(r, []string{"low", "frozen", "2,1 m"})
		case slip == 1:
			walkers = "a few"
		case slip == 2:
			date = strings.Replace(date, day.Format("02"), "31", 1) + "x"
		case slip < 14:
			walkers = "n/a"
		case slip == 14:
			fmt.Fprintf(&out, "%s;%s;%02d:00;%s\n", h.code, date, hour, level)
			continue
		}
		remark := pick(r, remarks)
		if strings.ContainsAny(remark, "\n\";,") {
			remark = `"` + strings.ReplaceAll(remark, `"`, `""`) + `"`
		}
		fmt.Fprintf(&out, "%s;%s;%02d:00;%s;%s;%s;%s\n", h.code, date, hour, level, pick(r, pathCodes), walkers, remark)
	}
	return out.String()
}
