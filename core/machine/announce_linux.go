package machine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"syscall"

	systemd "github.com/coreos/go-systemd/v22/dbus"
	"github.com/godbus/dbus/v5"
)

// connect reaches a manager over its private socket, which it also answers at
// while no message bus runs, and which root may use for everyone's manager. That
// no manager runs is reported by a nil connection.
func connect(ctx context.Context, m manager) (*systemd.Conn, error) {
	address := "/run/systemd/private"
	if m.user.Name != "" {
		address = fmt.Sprintf("/run/user/%d/systemd/private", m.user.UID)
	}
	if _, err := os.Stat(address); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	conn, err := systemd.NewConnection(func() (*dbus.Conn, error) {
		c, err := dbus.Dial("unix:path="+address, dbus.WithContext(ctx))
		if err != nil {
			return nil, err
		}
		if err := c.Auth([]dbus.Auth{dbus.AuthExternal(strconv.Itoa(os.Geteuid()))}); err != nil {
			c.Close()
			return nil, err
		}
		return c, nil // a private socket is no bus: nobody to say Hello to
	})
	if errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return conn, err
}

func reload(m manager) error {
	ctx, cancel := context.WithTimeout(context.Background(), m.timeout())
	defer cancel()
	conn, err := connect(ctx, m)
	if conn == nil {
		return err
	}
	defer conn.Close()
	return conn.ReloadContext(ctx)
}

func unitFileState(m manager, unit string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), m.timeout())
	defer cancel()
	conn, err := connect(ctx, m)
	if conn == nil {
		return "", err
	}
	defer conn.Close()
	files, err := conn.ListUnitFilesByPatternsContext(ctx, nil, []string{unit})
	if err != nil || len(files) == 0 {
		return "", err
	}
	return files[0].Type, nil
}
