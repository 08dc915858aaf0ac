package page

import (
	"cmp"
	"fmt"
	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/product"
	"lockback/core/work"
	"lockback/internal/view"
	"strings"
	"time"
	"unicode/utf8"
)

// ProductEntry is an entry of a product, in short.
type ProductEntry struct {
	Handle string          `json:"handle"`
	Name   string          `json:"name"`
	User   string          `json:"user"`
	State  autostart.State `json:"state"`
	Stage  autostart.Stage `json:"stage"`
}

// Product is an installed product with its entries.
type Product struct {
	Name        string          `json:"name"`
	Version     string          `json:"version"`
	Maker       autostart.Maker `json:"maker"`
	Installed   string          `json:"installed"`
	InstalledBy string          `json:"installed_by"`
	WithSystem  bool            `json:"with_system"`
	Uninstall   string          `json:"uninstall"`
	Cost        *autostart.Cost `json:"cost" jsonschema:"nullable"`
	LastUsed    string          `json:"last_used,omitempty"`
	Entries     []ProductEntry  `json:"entries"`
}

// ProductsDocument are products, in JSON.
type ProductsDocument struct {
	Machine  Machine   `json:"machine"`
	Products []Product `json:"products"`
	Without  int       `json:"without_product"`
	LeftOut  int       `json:"left_out"`
}

// Products lists products, how many entries are of none that is known, and how many are hidden.
func (w Writer) Products(m *machine.Machine, inv inventory.Inventory, products []product.Product, without,
	hidden int) error {
	switch w.Format {
	case "json":
		docs := make([]Product, len(products))
		for k, pr := range products {
			docs[k] = productOf(pr)
		}
		return w.JSON(ProductsDocument{MachineOf(m), docs, without, hidden})
	case "csv":
		var rows [][]string
		for _, pr := range products {
			for _, item := range pr.Items {
				rows = append(rows, []string{pr.Name, pr.Version, pr.Maker.Name, pr.Maker.Basis, pr.Installed,
					pr.InstalledBy, cmp.Or(map[bool]string{true: "yes"}[pr.WithSystem], "no"), item.Handle, item.Name,
					item.User, string(item.State), pr.Uninstall})
			}
		}
		return w.CSV([]string{"product", "version", "maker", "maker_basis", "installed", "installed_by", "with_system",
			"handle", "name", "user", "state", "uninstall"}, rows)
	}
	w.Line("%s", Heading(m))
	for _, pr := range products {
		w.Line("")
		title, lines := productWords(pr, inv)
		w.Block(title, lines)
	}
	w.Line("")
	w.Line("%s", autostart.Count(len(products), "product", "products")+leftOutWords(without, hidden))
	return nil
}

// leftOutWords say what is in no product, and what is hidden.
func leftOutWords(without, hidden int) string {
	words := ""
	if without > 0 {
		words += "; the product of " + autostart.Count(without, "entry", "entries") + " is not known (list shows them)"
	}
	if hidden > 0 {
		words += "; " + autostart.Count(hidden, "part of the operating system is",
			"parts of the operating system are") + " hidden (--all shows them)"
	}
	return words
}

// mostAlignedName is how long a name may be to have the others stand below it.
const mostAlignedName = 32

// ProductTitle is a product's name and version, and who made it.
func ProductTitle(pr product.Product) string {
	title := strings.TrimSpace(pr.Name + " " + pr.Version)
	if by := view.MakerWords(pr.Maker); by != "" {
		title += "  by " + by
	}
	return title
}

// productWords are a product's title, and the lines below it.
func productWords(pr product.Product, inv inventory.Inventory) (title string, lines [][]string) {
	title = ProductTitle(pr)
	var installed []string
	if pr.Installed != "" || pr.InstalledBy != "" {
		text := "installed"
		if day, _, _ := strings.Cut(pr.Installed, "T"); day != "" {
			text += " on " + day
		}
		if pr.InstalledBy != "" {
			text += " by " + pr.InstalledBy
		}
		installed = append(installed, text)
	}
	if pr.WithSystem {
		installed = append(installed, "came with the computer")
	}
	if len(installed) > 0 {
		lines = append(lines, installed)
	}
	entries := autostart.OnceForEveryone(work.Entries(pr.Items), work.Entries(inv.Items))
	widest := 0
	for _, e := range entries {
		widest = max(widest, min(utf8.RuneCountInString(e.Name), mostAlignedName))
	}
	for _, e := range entries {
		line := []string{fmt.Sprintf("%s  %-8s  %-*s", e.Handle, e.State, widest, e.Name),
			strings.ToLower(view.StageWords(e.Stage))}
		if e.User != "" {
			line = append(line, "for "+e.User)
		}
		lines = append(lines, line)
	}
	var worth []string
	if cost := view.CostWords(pr.Cost); cost != "" {
		worth = append(worth, cost)
	}
	if !pr.Used.Last.IsZero() {
		worth = append(worth, view.UseWords(pr.Used))
	}
	if len(worth) > 0 {
		lines = append(lines, worth)
	}
	if pr.Uninstall != "" {
		lines = append(lines, []string{"to uninstall:", pr.Uninstall})
	}
	return title, lines
}

func productOf(pr product.Product) Product {
	j := Product{Name: pr.Name, Version: pr.Version, Maker: pr.Maker, Installed: pr.Installed,
		InstalledBy: pr.InstalledBy, WithSystem: pr.WithSystem, Uninstall: pr.Uninstall, Cost: pr.Cost}
	if !pr.Used.Last.IsZero() {
		j.LastUsed = pr.Used.Last.UTC().Format(time.RFC3339)
	}
	for _, item := range pr.Items {
		j.Entries = append(j.Entries, ProductEntry{item.Handle, item.Name, item.User, item.State, item.Stage})
	}
	return j
}
