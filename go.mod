module tavrin

go 1.26.0

ignore ./console/node_modules

require github.com/goccy/go-yaml v1.19.2
