package setup

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"

	"go.yaml.in/yaml/v3"
)

// ConfigFile is the configuration of a service.
const ConfigFile = "/etc/jugate/jugate.yaml"

// setting is one that is written, in the order in which they stand in the file.
type setting struct {
	name  string
	value any // nil takes it out
}

// settings are what the answers come to.
func (a *Answers) settings(own netip.Addr) []setting {
	at := netip.AddrPortFrom(own, Port).String()
	s := []setting{{"data", a.Data}, {"listen", at}, {"at", []string{"https://" + at}}, {"multicast-interface", a.Interface}, {"netboot", []string{a.Interface + "=" + string(a.Mode)}}, {"pool", nil}, {"name", nil}}
	if a.Pool != "" {
		s[5].value = []string{a.Pool}
	}
	if len(a.Names) > 0 {
		s[6].value = a.Names
	}
	return s
}

// Write puts the answers into the configuration file, whose other settings and comments stay, and makes the data folder. It tells
// where the service is reached.
func (a *Answers) Write(m Machine, file string) (url string, err error) {
	interfaces, err := m.Interfaces()
	if err != nil {
		return "", err
	}
	own, has := a.own(interfaces)
	if !has {
		return "", fmt.Errorf("%s has no IPv4 address", a.Interface)
	}
	text, err := m.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if text, err = edit(text, a.settings(own.Addr())); err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	if err := m.Own(a.Data); err != nil {
		return "", fmt.Errorf("the data folder %s: %w", a.Data, err)
	}
	return "https://" + netip.AddrPortFrom(own.Addr(), Port).String(), m.WriteFile(file, text)
}

// edit sets settings in a YAML file, and leaves all else as it is.
func edit(text []byte, settings []setting) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	if len(doc.Content) == 0 { // empty, or nothing but comments
		doc = yaml.Node{Kind: yaml.DocumentNode, HeadComment: doc.HeadComment, FootComment: doc.FootComment, Content: []*yaml.Node{{Kind: yaml.MappingNode, Tag: "!!map"}}}
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		return nil, errors.New("it does not have settings by name")
	}
	for _, s := range settings {
		if err := put(root, s); err != nil {
			return nil, err
		}
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(&doc); err != nil {
		return nil, err
	}
	return out.Bytes(), e.Close()
}

// put sets a setting in a mapping, at its place if it has one.
func put(root *yaml.Node, s setting) error {
	at := -1
	for i := 0; i < len(root.Content); i += 2 {
		if root.Content[i].Value == s.name {
			at = i
		}
	}
	if s.value == nil {
		if at >= 0 {
			root.Content = append(root.Content[:at], root.Content[at+2:]...)
		}
		return nil
	}
	var value yaml.Node
	if err := value.Encode(s.value); err != nil {
		return err
	}
	if value.Kind == yaml.SequenceNode {
		value.Style = yaml.FlowStyle
	}
	if at < 0 {
		root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: s.name}, &value)
		return nil
	}
	value.LineComment, value.FootComment = root.Content[at+1].LineComment, root.Content[at+1].FootComment
	root.Content[at+1] = &value
	return nil
}
