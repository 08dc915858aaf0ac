// Package unix reads what Linux and macOS have in common: tables of cron, and
// scripts that are run when they may be. The packages linux and macos say where
// those lie, and what else their system asks of them.
package unix
