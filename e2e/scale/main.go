// Command scale makes the service of an organisation that has worked with it for years, in a size of choice, and measures it.
//
//	go run ./e2e/scale -size large -dir DIR -figures FILE make measure
package main

import (
	"context"
	"encoding/json"
	"flag"
	"log"
	"os"
)

func main() {
	name := flag.String("size", "small", "tiny, small, middle or large")
	dir := flag.String("dir", "", "folder for the service, which must not be there yet to make it")
	program := flag.String("program", "bin/tavrin", "the program that serves it")
	only := flag.String("only", "", "parts to measure: start, reading, queue, rules, git, many, audit, disk, statements; all if empty")
	figures := flag.String("figures", "", "file for the figures, as JSON; for the table, the folder of the files, each named SIZE.json")
	flag.Parse()
	s, err := sizeNamed(*name)
	for _, what := range flag.Args() {
		if err != nil {
			break
		}
		switch what {
		case "make":
			err = makeIn(context.Background(), *dir, s)
		case "measure":
			var all []figure
			if all, err = measure(context.Background(), *dir, *program, s, *only); err == nil && *figures != "" {
				err = write(*figures, all)
			}
		case "table":
			err = table(*figures, "docs/performance.md")
		default:
			log.Fatalf("%q is none of make, measure and table", what)
		}
	}
	if err != nil {
		log.Fatal(err)
	}
}

func write(file string, all []figure) error {
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
