// Package dnfstate reads the system state of dnf 5: which groups and environments it installed, and what they consist
// of.
//
//	packages := dnfstate.Lists(content, "groups", "packages")
//	fmt.Println(packages["core"])
//
// The files groups.toml and environments.toml are TOML as libdnf5/system/state.cpp writes it: a table for each group,
// with lists of names. Only that form is read: a reader of all of TOML takes more memory than there is for tables that
// somebody nested on purpose.
package dnfstate

import "strings"

// Lists are the values of one key in all tables below another, by the names of these: of [groups.core] and "packages",
// the packages of core. What is of another form is passed over.
func Lists(content, table, key string) map[string][]string {
	all := map[string][]string{}
	name, here := "", false
	for content != "" {
		var line string
		line, content, _ = strings.Cut(content, "\n")
		line = strings.TrimSpace(line)
		if heading, ok := strings.CutPrefix(line, "["); ok {
			name, here = strings.CutPrefix(strings.TrimSuffix(heading, "]"), table+".")
			name = strings.Trim(strings.TrimSpace(name), `"'`)
			continue
		}
		word, value, ok := strings.Cut(line, "=")
		if !here || !ok || strings.TrimSpace(word) != key {
			continue
		}
		value, ok = strings.CutPrefix(strings.TrimSpace(value), "[")
		if !ok {
			continue
		}
		for { // to the end of the list, which may be lines below
			part, _, ended := strings.Cut(value, "]")
			for item := range strings.SplitSeq(part, ",") {
				if item = strings.Trim(strings.TrimSpace(item), `"'`); item != "" {
					all[name] = append(all[name], item)
				}
			}
			if ended || content == "" {
				break
			}
			value, content, _ = strings.Cut(content, "\n")
		}
	}
	return all
}
