// Package demo makes the computers of the Gullrock Lighthouse Museum, which does
// not exist, and leads through a technician's job on them.
package demo
