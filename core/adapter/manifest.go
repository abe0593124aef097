package adapter

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"earlybench.invalid/earlybench/core/strict"
)

// ManifestName is the file that describes an adapter, in its directory.
const ManifestName = "adapter.yaml"

// Manifest is adapter.yaml.
type Manifest struct {
	Adapter string   `yaml:"adapter"` // its name, that of its directory
	About   string   `yaml:"about"`
	Command []string `yaml:"command"` // a program, in its directory or on the search path
	Sheet   string   `yaml:"sheet"`   // the prep sheet of its devices, a file in its directory
	Rights  Rights   `yaml:"rights"`
}

// Rights are what an adapter may use beside its own directories.
type Rights struct {
	Files     []string `yaml:"files"`     // device files, as patterns: each that is there is a candidate
	Announced []string `yaml:"announced"` // types of services, such as "_reed._tcp": each that is announced on the network is a candidate
	USB       []string `yaml:"usb"`       // vendor:product: each that is connected to the bench's computer is a candidate
	Connect   []int    `yaml:"connect"`   // TCP ports that it may connect to
}

var (
	nameShape    = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)
	serviceShape = regexp.MustCompile(`^_[a-z0-9]([a-z0-9-]{0,13}[a-z0-9])?\._tcp$`)
	usbShape     = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{4}$`)
)

// Bounds of a manifest.
const (
	mostPatterns = 16
	mostPorts    = 16
	mostWords    = 32
)

// ParseManifest reads adapter.yaml strictly.
func ParseManifest(raw []byte) (*Manifest, error) {
	var m Manifest
	if err := strict.YAML(raw, &m); err != nil {
		return nil, err
	}
	return &m, m.check()
}

func (m *Manifest) check() error {
	switch {
	case !nameShape.MatchString(m.Adapter):
		return fmt.Errorf("adapter name %.40q is invalid: start with a lower-case letter, then use up to 30 letters, digits or hyphens", m.Adapter)
	case len(m.Command) == 0 || len(m.Command) > mostWords || m.Command[0] == "":
		return errors.New("command is missing or too long; write it as a list")
	case strings.Contains(m.Command[0], "/") && !filepath.IsLocal(m.Command[0]):
		return fmt.Errorf("command %.80q is outside the adapter's directory", m.Command[0])
	case !filepath.IsLocal(m.Sheet) || filepath.Base(m.Sheet) != m.Sheet:
		return fmt.Errorf("sheet %.80q is not the name of a file in the adapter's directory", m.Sheet)
	}
	return m.Rights.check()
}

func (r *Rights) check() error {
	if len(r.Files) > mostPatterns || len(r.Announced) > mostPatterns || len(r.USB) > mostPatterns || len(r.Connect) > mostPorts {
		return fmt.Errorf("rights: more than %d patterns, types or ids, or %d ports", mostPatterns, mostPorts)
	}
	for _, p := range r.Files {
		if _, err := filepath.Match(p, ""); err != nil || !filepath.IsAbs(p) || filepath.Clean(p) != p {
			return fmt.Errorf("rights: files: %.80q is not an absolute path or pattern", p)
		}
	}
	for _, t := range r.Announced {
		if !serviceShape.MatchString(t) {
			return fmt.Errorf("rights: announced: %.40q is not a service type, such as _reed._tcp (RFC 6763, section 7)", t)
		}
	}
	for _, id := range r.USB {
		if !usbShape.MatchString(id) {
			return fmt.Errorf("rights: usb: %.40q is not vendor:product, four hexadecimal digits each, such as 1d6b:0104", id)
		}
	}
	for _, p := range r.Connect {
		if p < 1 || p > 65535 {
			return fmt.Errorf("rights: connect: %d is not a port", p)
		}
	}
	return nil
}

// Candidate is something that may be a device. Which members it has depends on its kind.
type Candidate struct {
	Device string `json:"device"` // by which it is spoken of from now on
	Kind   string `json:"kind"`
	Path   string `json:"path,omitempty"` // of the device file, of the kinds file and usb

	// Of the kind network: an instance of a service as it is announced (RFC 6763).
	Service  string            `json:"service,omitempty"`  // its type
	Instance string            `json:"instance,omitempty"` // its name
	Address  string            `json:"address,omitempty"`
	Port     int               `json:"port,omitempty"`
	Text     map[string]string `json:"text,omitempty"`

	// Of the kind usb.
	USB    string `json:"usb,omitempty"`    // vendor:product
	Serial string `json:"serial,omitempty"` // "" if it has none
	Name   string `json:"name,omitempty"`   // in its own words
}

// Kinds of candidates.
const (
	KindFile    = "file"    // a device file
	KindNetwork = "network" // a service that is announced on the network
	KindUSB     = "usb"     // a device on the USB of the bench's computer
)

// Files are the device files that an adapter needs for the candidate.
func (c *Candidate) Files() []string {
	if c.Path == "" {
		return nil
	}
	return []string{c.Path}
}

// Ports are the TCP ports that an adapter needs for the candidate.
func (c *Candidate) Ports() []int {
	if c.Port == 0 {
		return nil
	}
	return []int{c.Port}
}
