package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"lockback/core/autostart"
	"lockback/core/machine/files"
	"lockback/core/note"
	"lockback/internal/page"
	"lockback/internal/view"
)

// setting is something that the configuration file can give a default for. Its variable wins over
// the file, and its flag over both.
type setting struct {
	key      string // in the file; the flag is called the same, but for colours
	variable string
	meaning  string
	check    func(value string) error
}

var settings = []setting{
	{"columns", "LOCKBACK_COLUMNS", "the fields that list shows as a table", func(v string) error {
		_, _, err := listOptions{group: "place", columns: strings.Split(v, ",")}.layout()
		return err
	}},
	{"sort", "LOCKBACK_SORT", "the field that list sorts by", func(v string) error {
		_, _, err := listOptions{group: "place", sort: v}.layout()
		return err
	}},
	{"group", "LOCKBACK_GROUP", "the headings of list: " + strings.Join(view.Groupings, ", "), func(v string) error {
		_, _, err := listOptions{group: v}.layout()
		return err
	}},
	{"color", "LOCKBACK_COLOR", "auto or never", func(v string) error {
		if v != "auto" && v != "never" {
			return usage("color is auto or never, not %q", v)
		}
		return nil
	}},
	{"search", "LOCKBACK_SEARCH", "a web address that show and lookup fill in: {} stands for the words",
		func(v string) error {
			if !strings.HasPrefix(v, "https://") && !strings.HasPrefix(v, "http://") || strings.Count(v, "{}") != 1 {
				return usage("search is a web address with {} where the words go, such as "+
					"https://search.example/?q={}, not %q", v)
			}
			return nil
		}},
	{"by", "LOCKBACK_BY", "who writes notes (default: the name of the user)",
		func(v string) error { return note.Note{By: v}.Check() }},
	{"store", "LOCKBACK_STORE", "the record's file, or disk for the one on the mounted disk",
		func(string) error { return nil }},
}

// configured is the value of a setting, and what it comes from.
type configured struct{ value, from string }

// maxConfig is the largest configuration file that is read, in bytes.
const maxConfig = 64 << 10

// configPath is where the configuration file is looked for.
func configPath() (string, error) {
	if path := os.Getenv("LOCKBACK_CONFIG"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("no place for a configuration file: %w; name one with LOCKBACK_CONFIG", err)
	}
	return filepath.Join(dir, "lockback", "config.yaml"), nil
}

// readConfiguration reads the settings of the file and of the environment.
func readConfiguration(a *app) (map[string]configured, error) {
	all := map[string]configured{}
	path, err := configPath()
	if err == nil {
		if err := readConfigFile(a, path, all); err != nil {
			return nil, err
		}
	}
	for _, s := range settings {
		if v := os.Getenv(s.variable); v != "" {
			if err := s.check(v); err != nil {
				return nil, usage("%s: %v", s.variable, err)
			}
			all[s.key] = configured{v, s.variable}
		}
	}
	return all, nil
}

// readConfigFile reads the file. One of somebody else's is no configuration of who runs the program:
// as root, the file must be root's.
func readConfigFile(a *app, path string, into map[string]configured) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the configuration cannot be read: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return usage("the configuration %s is not a file", path)
	}
	if uid, _ := files.Owner(info); uid > 0 && uid != os.Geteuid() || uid >= 0 && info.Mode()&0o022 != 0 {
		a.note("note: the configuration %s is not used: it is another user's, or others may write to it", path)
		return nil
	}
	text, err := io.ReadAll(io.LimitReader(f, maxConfig+1))
	if err != nil {
		return fmt.Errorf("the configuration cannot be read: %w", err)
	}
	if len(text) > maxConfig {
		return usage("the configuration %s is larger than %d bytes", path, maxConfig)
	}
	var file map[string]any
	if err := yaml.Unmarshal(text, &file); err != nil {
		return usage("the configuration %s cannot be parsed: %s", path, strings.ReplaceAll(err.Error(), "\n", " "))
	}
	var keys []string
	for _, s := range settings {
		keys = append(keys, s.key)
	}
	for _, key := range slices.Sorted(maps.Keys(file)) {
		at := slices.Index(keys, key)
		if at < 0 {
			return usage("the configuration %s has the unknown setting %q%s (the settings are %s)", path, key,
				autostart.Suggest(key, keys), strings.Join(keys, ", "))
		}
		if _, nested := file[key].(map[string]any); nested {
			return usage("the configuration %s: %s is a text or a list, and has settings of its own there", path, key)
		}
		value := plainSetting(file[key])
		if err := settings[at].check(value); err != nil {
			return usage("%s: %v", path, err)
		}
		into[key] = configured{value, path}
	}
	return nil
}

// plainSetting is the value of a setting as an option takes it: a list with commas.
func plainSetting(value any) string {
	if value == nil {
		return ""
	}
	if list, ok := value.([]any); ok {
		words := make([]string, len(list))
		for k, v := range list {
			words[k] = plainSetting(v)
		}
		return strings.Join(words, ",")
	}
	return fmt.Sprint(value)
}

// configure gives flags that were not set the values of the configuration.
func configure(a *app, c *cobra.Command) error {
	all, err := readConfiguration(a)
	if err != nil {
		return err
	}
	for key, v := range all {
		if key == "search" {
			a.search = v.value
			continue
		}
		if key == "by" {
			a.by = v.value
			continue
		}
		if key == "color" {
			if !c.Flags().Changed("no-color") && v.value == "never" {
				a.noColor = true
			}
			continue
		}
		if f := c.Flags().Lookup(key); f != nil && !f.Changed {
			if err := f.Value.Set(v.value); err != nil {
				return usage("%s: %v", v.from, err)
			}
		}
	}
	return nil
}

func newConfigCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use:   "config",
		Short: "Show the configuration",
		Long: `The configuration is a YAML file with defaults for options. Environment variables
win over it, and options of the command line over both:

` + settingsHelp(),
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	show := &cobra.Command{
		Use:   "show",
		Short: "Show every setting, its value and what it comes from",
		Long: "Show every setting, its value, and whether that comes from the configuration file or from the " +
			"environment.",
		Example: "  lockback config show\n  lockback config show --format json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all, err := readConfiguration(a)
			if err != nil {
				return err
			}
			list := make([]page.Setting, len(settings))
			for k, s := range settings {
				list[k] = page.Setting{Setting: s.key, Value: all[s.key].value, From: all[s.key].from}
			}
			return a.page().Config(list)
		},
	}
	path := &cobra.Command{
		Use:   "path",
		Short: "Print where the configuration file is looked for",
		Long: "Print the path at which the configuration file is looked for, whether it is there or not. " +
			"LOCKBACK_CONFIG names another.",
		Example: "  lockback config path",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			path, err := configPath()
			if err != nil {
				return err
			}
			a.printer().Line("%s", path)
			return nil
		},
	}
	c.AddCommand(show, path)
	return c
}

func settingsHelp() string {
	var b strings.Builder
	for _, s := range settings {
		fmt.Fprintf(&b, "  %-8s  %-17s  %s\n", s.key, s.variable, s.meaning)
	}
	b.WriteString("\nA file could read:\n\n  columns: [handle, state, name, when]\n  color: never\n  search: " +
		"https://search.example/?q={}\n\nAs root, only a file of root's own is used.")
	return b.String()
}
