package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
)

const (
	// arriveFor is how long a system tries to report its first start.
	arriveFor = time.Hour
	// arriveEvery is how long it waits between two tries.
	arriveEvery = 10 * time.Second
)

// ReadArrival reads the configuration of a report.
func ReadArrival(path string) (answers.Arrival, error) {
	var a answers.Arrival
	text, err := os.ReadFile(path)
	if err != nil {
		return a, err
	}
	return a, json.Unmarshal(text, &a)
}

// ArrivalClient is a client for the service that a report goes to, from the system below root.
func ArrivalClient(a answers.Arrival, root string) (c *apiclient.Client, err error) {
	if a.Helper {
		own, err := helperCertificate(root)
		if err != nil {
			return nil, err
		}
		c, err = apiclient.ForHolder(a.Service, []byte(a.Certificate), own)
		if err != nil {
			return nil, err
		}
	} else if c, err = apiclient.ForAgent(a.Service, []byte(a.Certificate)); err != nil {
		return nil, err
	}
	return c.WithToken(a.Token), nil
}

// Arrive reports the first start of the system below root, and removes what was written for
// that, whatever comes of it; of a helper just the token, once it was good. While nobody answers it tries again, for an
// hour.
func Arrive(ctx context.Context, c *apiclient.Client, a answers.Arrival, root string) error {
	ctx, cancel := context.WithTimeout(ctx, arriveFor)
	defer cancel()
	for {
		report := arrivalReport(root)
		report.Helper = a.Helper
		err := c.Arrive(ctx, report)
		switch {
		case err == nil && a.Helper:
			return settle(root, a)
		case ctx.Err() == nil && !apiclient.IsPassing(err):
			return errors.Join(err, leaveNothing(root))
		}
		select {
		case <-ctx.Done():
			return errors.Join(fmt.Errorf("the service could not be told within %s: %w", arriveFor, err), leaveNothing(root))
		case <-time.After(arriveEvery):
		}
	}
}

// leaveNothing removes the files of the report.
func leaveNothing(root string) (err error) {
	for _, name := range append([]string{answers.HelperKey}, answers.ArrivalFiles...) {
		if e := os.Remove(filepath.Join(root, name)); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	os.Remove(filepath.Join(root, "var/lib/jugate")) // if it is empty
	return err
}

// arrivalReport reads what there is to tell of the system below root.
func arrivalReport(root string) api.ArrivalReport {
	read := func(name string) string {
		text, _ := os.ReadFile(filepath.Join(root, name))
		return strings.TrimSpace(string(text))
	}
	r := api.ArrivalReport{ComputerName: read("etc/hostname"), MachineID: read("etc/machine-id"), Kernel: read("proc/sys/kernel/osrelease"), Addresses: []string{}, IPs: []string{}}
	if root == "/" {
		if name, err := os.Hostname(); err == nil { // what it is called now
			r.ComputerName = name
		}
	}
	for line := range strings.Lines(read("etc/os-release")) {
		if value, is := strings.CutPrefix(line, "PRETTY_NAME="); is {
			r.System = strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	fmt.Sscanf(read("proc/uptime"), "%f", &r.Uptime)
	interfaces, _ := net.Interfaces()
	for _, i := range interfaces {
		if i.Flags&net.FlagLoopback != 0 || len(i.HardwareAddr) == 0 {
			continue
		}
		r.Addresses = append(r.Addresses, i.HardwareAddr.String())
		ips, _ := i.Addrs()
		for _, ip := range ips {
			r.IPs = append(r.IPs, ip.String())
		}
	}
	return r
}
