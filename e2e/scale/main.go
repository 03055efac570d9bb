// Command scale makes the service of an organisation that has worked with it for years, in a size of choice, and measures it.
//
//	go run ./e2e/scale -size large -dir DIR make
package main

import (
	"context"
	"flag"
	"log"
)

func main() {
	name := flag.String("size", "small", "tiny, small, middle or large")
	dir := flag.String("dir", "", "folder for the service, which must not be there yet to make it")
	flag.Parse()
	s, err := sizeNamed(*name)
	if err == nil {
		err = makeIn(context.Background(), *dir, s)
	}
	if err != nil {
		log.Fatal(err)
	}
}
