// This file reads estate folders for the commands that work on one.

package command

import (
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

func estateFlag() cli.Flag {
	return &cli.StringFlag{Name: "estate", Usage: "work on the estate `FOLDER`, with no service", TakesFile: true}
}

func dateFlag() cli.Flag {
	return &cli.StringFlag{Name: "date", Usage: "judge exceptions on the `DAY` (2026-05-01); today when left out"}
}

func personFlag() cli.Flag {
	return &cli.StringFlag{Name: "person", Usage: "resolve for the `PERSON` who signs in instead of the owner"}
}

func formatFlag(formats ...string) cli.Flag {
	words := ""
	for i, f := range formats {
		if i > 0 {
			words += ", "
		}
		words += f
	}
	return &cli.StringFlag{Name: "format", Value: formats[0], Usage: "`FORM` of the output: " + words, Validator: func(v string) error {
		for _, f := range formats {
			if f == v {
				return nil
			}
		}
		return fmt.Errorf("found the format %s, expected one of %s", problem.Quote(v), words)
	}}
}

// dayOf gives the day that exceptions are judged on.
func dayOf(c *cli.Command) (estate.Date, error) {
	text := c.String("date")
	if !c.IsSet("date") {
		text = time.Now().Format(time.DateOnly)
	}
	day, ok := estate.ParseDate(text)
	if !ok {
		return "", usage("--date: found %s, expected a day such as 2026-05-01", problem.Quote(text))
	}
	return day, nil
}

// readFolder loads an estate folder on the day of the command line.
func readFolder(c *cli.Command, folder string) (*estate.Snapshot, error) {
	if c.String("at") != "" {
		return nil, usage("%s: --at goes without --estate: a folder has no past", c.Name)
	}
	day, err := dayOf(c)
	if err != nil {
		return nil, err
	}
	s, err := files.Read(folder, dictionary.Shipped())
	if err != nil {
		return nil, err
	}
	return s.On(day), nil
}

// printLines prints faults, one a line.
func printLines(w io.Writer, faults problem.Faults) {
	for _, f := range faults {
		fmt.Fprintln(w, f.Error())
	}
}

// printFaults prints the faults of a folder or file that was not loaded because of them.
func printFaults(w io.Writer, faults problem.Faults) {
	printLines(w, faults)
	if n := len(faults); n == 1 {
		fmt.Fprintln(w, "1 fault; nothing was loaded")
	} else {
		fmt.Fprintf(w, "%d faults; nothing was loaded\n", n)
	}
}

// atFlag asks the service of a moment that has passed.
func atFlag() *cli.StringFlag {
	return &cli.StringFlag{Name: "at", Usage: "as it was live at a `MOMENT` such as 2026-10-03T14:00; a day alone is its end; of the " +
		"service only"}
}
