package catalogue

import (
	"errors"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// node is a value of a file: a text, a list, or a table of names and values.
type node struct {
	kind  nodeKind
	line  int    // counted from 1
	text  string // of a text
	keys  []key  // of a table
	items []node // of a list, or the values of a table
}

type nodeKind uint8

const (
	textNode nodeKind = iota
	listNode
	tableNode
)

type key struct {
	name string
	line int
}

// errAlias refuses what could make a small file large.
var errAlias = errors.New("YAML aliases are not supported")

// fromYAML is a file as the package for YAML reads it.
func fromYAML(text []byte) (node, *Problem) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return node{}, &Problem{lineIn(err), "this is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	if len(doc.Content) != 1 {
		return node{}, &Problem{1, "the file is empty"}
	}
	return converted(doc.Content[0])
}

func converted(n *yaml.Node) (node, *Problem) {
	to := node{line: n.Line}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return to, &Problem{n.Line, errAlias.Error()}
	}
	content := n.Content
	switch n.Kind {
	case yaml.ScalarNode:
		to.text = n.Value
		return to, nil
	case yaml.SequenceNode:
		to.kind = listNode
	case yaml.MappingNode:
		to.kind = tableNode
		content = nil
		for k := 0; k+1 < len(n.Content); k += 2 {
			name := n.Content[k]
			if name.Kind != yaml.ScalarNode || name.Anchor != "" {
				return to, &Problem{name.Line, errAlias.Error()}
			}
			to.keys = append(to.keys, key{name.Value, name.Line})
			content = append(content, n.Content[k+1])
		}
	}
	for _, c := range content {
		item, problem := converted(c)
		if problem != nil {
			return to, problem
		}
		to.items = append(to.items, item)
	}
	return to, nil
}

// lineIn finds the line in an error of the package: "yaml: line 3: ...".
func lineIn(err error) int {
	n := 1
	fmt.Sscanf(err.Error(), "yaml: line %d:", &n)
	return n
}
