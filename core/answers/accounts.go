package answers

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/GehirnInc/crypt/sha512_crypt"

	"jugate/core/fault"
)

// table is a file of lines with colons, such as passwd(5).
type table struct {
	rows  [][]string
	dirty bool
}

func readTable(text []byte) *table {
	t := &table{}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimRight(line, "\n"); line != "" {
			t.rows = append(t.rows, strings.Split(line, ":"))
		}
	}
	return t
}

// row finds the row of a name; nil if there is none.
func (t *table) row(name string, cells int) []string {
	for i, r := range t.rows {
		if r[0] == name {
			for len(t.rows[i]) < cells {
				t.rows[i] = append(t.rows[i], "")
			}
			return t.rows[i]
		}
	}
	return nil
}

func (t *table) add(cells ...string) []string {
	t.rows = append(t.rows, cells)
	t.dirty = true
	return cells
}

func (t *table) set(row []string, at int, value string) {
	if row[at] != value {
		row[at], t.dirty = value, true
	}
}

func (t *table) bytes() []byte {
	var b strings.Builder
	for _, r := range t.rows {
		b.WriteString(strings.Join(r, ":") + "\n")
	}
	return []byte(b.String())
}

// number is the lowest number from 1000 on that no row has in a column.
func (t *table) number(columns ...int) int {
	for n := 1000; ; n++ {
		text := strconv.Itoa(n)
		if !slices.ContainsFunc(t.rows, func(r []string) bool {
			return slices.ContainsFunc(columns, func(c int) bool { return c < len(r) && r[c] == text })
		}) {
			return n
		}
	}
}

// Lines of passwd(5), shadow(5) and group(5).
const (
	passwdCells = 7
	shadowCells = 9
	groupCells  = 4
)

// accounts makes local accounts, or changes those that are there.
func (f *files) accounts(accounts []Account, today int) error {
	if accounts == nil {
		return nil
	}
	const why = "accounts"
	tables := map[string]*table{}
	for _, name := range []string{"passwd", "shadow", "group", "gshadow"} {
		text, has := f.read("etc/" + name)
		if !has && name != "gshadow" {
			return fault.Invalid.Errorf("the system has no /etc/%s that could be read, so it can have no accounts", name)
		}
		tables[name] = readTable(text)
	}
	passwd, shadow, group := tables["passwd"], tables["shadow"], tables["group"]
	admins := f.adminGroup(group)
	for _, a := range accounts {
		row := passwd.row(a.Name, passwdCells)
		isNew := row == nil
		if isNew {
			uid := passwd.number(2, 3)
			gid := strconv.Itoa(uid)
			if g := group.row(a.Name, groupCells); g != nil {
				gid = g[2]
			} else if slices.ContainsFunc(group.rows, func(r []string) bool { return len(r) > 2 && r[2] == gid }) {
				gid = strconv.Itoa(group.number(2))
			}
			if group.row(a.Name, groupCells) == nil {
				group.add(a.Name, "x", gid, "")
				if tables["gshadow"].rows != nil {
					tables["gshadow"].add(a.Name, "!", "", "")
				}
			}
			shell := "/bin/sh"
			if f.hasAny("bin/bash", "usr/bin/bash") != "" {
				shell = "/bin/bash"
			}
			row = passwd.add(a.Name, "x", strconv.Itoa(uid), gid, a.FullName, "/home/"+a.Name, shell)
		} else if a.FullName != "" {
			passwd.set(row, 4, a.FullName)
		}
		f.password(shadow, a, today)
		if admins == "" && a.Administrator {
			f.remark("the system has neither a group sudo nor a group wheel, so %s cannot become root", a.Name)
		}
		if admins != "" {
			member(group, admins, a.Name, a.Administrator)
			if tables["gshadow"].rows != nil {
				member(tables["gshadow"], admins, a.Name, a.Administrator)
			}
		}
		uid, _ := strconv.Atoi(row[2])
		gid, _ := strconv.Atoi(row[3])
		home := strings.TrimPrefix(row[5], "/")
		if isNew {
			f.home(home, uid, gid)
		}
		if a.SSHKeys != nil {
			f.folder(home+"/.ssh", why, 0o700, uid, gid)
			c := f.write(home+"/.ssh/authorized_keys", why, 0o600, lines(a.SSHKeys))
			c.UID, c.GID = uid, gid
		}
	}
	for _, file := range []struct {
		name string
		mode fs.FileMode
	}{{"passwd", 0o644}, {"shadow", 0o640}, {"group", 0o644}, {"gshadow", 0o640}} {
		if t := tables[file.name]; t.dirty {
			c := f.write("etc/"+file.name, why, file.mode, t.bytes())
			if file.mode != 0o644 {
				c.Secret, c.GID = true, f.shadowGroup(group)
				if c.GID == 0 {
					c.Mode = 0
				}
			}
		}
	}
	return nil
}

// password sets the hash of an account in shadow(5); without one nobody signs in by password.
func (f *files) password(shadow *table, a Account, today int) {
	hash := a.Hash()
	row := shadow.row(a.Name, shadowCells)
	if row == nil {
		if hash == "" {
			hash = "!"
		}
		row = shadow.add(a.Name, hash, strconv.Itoa(today), "0", "99999", "7", "", "", "")
	} else if hash != "" {
		shadow.set(row, 1, hash)
	}
	if a.ChangePassword {
		shadow.set(row, 2, "0")
	}
}

// Hash is the account's password as shadow(5) has it; empty if nobody can sign in by password.
func (a Account) Hash() string {
	if a.Password != "" {
		return hashOf(a.Password)
	}
	return a.PasswordHash
}

// hashOf hashes a password for shadow(5), with a salt of its own (SHA-512 of crypt(5)).
func hashOf(password string) string {
	hash, err := sha512_crypt.New().Generate([]byte(password), nil)
	if err != nil {
		panic(err) // only without random numbers
	}
	return hash
}

// adminGroup is the group whose members may become root.
func (f *files) adminGroup(group *table) string {
	for _, name := range []string{"sudo", "wheel"} {
		if group.row(name, groupCells) != nil {
			return name
		}
	}
	return ""
}

// shadowGroup is the group that may read shadow(5): Debian has one, others give it to nobody.
func (f *files) shadowGroup(group *table) int {
	if row := group.row("shadow", groupCells); row != nil {
		gid, _ := strconv.Atoi(row[2])
		return gid
	}
	return 0
}

// member puts an account into a group, or takes it out.
func member(group *table, name, account string, in bool) {
	row := group.row(name, groupCells)
	if row == nil {
		return
	}
	members := strings.FieldsFunc(row[3], func(r rune) bool { return r == ',' })
	has := slices.Contains(members, account)
	switch {
	case in && !has:
		members = append(members, account)
	case !in && has:
		members = slices.DeleteFunc(members, func(m string) bool { return m == account })
	default:
		return
	}
	group.set(row, 3, strings.Join(members, ","))
}

// home makes a home folder, with what the system puts into each.
func (f *files) home(home string, uid, gid int) {
	const why = "accounts"
	f.folder(home, why, 0o700, uid, gid)
	fs.WalkDir(f.FS, "etc/skel", func(name string, d fs.DirEntry, err error) error {
		to := path.Join(home, strings.TrimPrefix(name, "etc/skel"))
		switch {
		case err != nil || name == "etc/skel":
		case d.IsDir():
			f.folder(to, why, 0o755, uid, gid)
		case d.Type().IsRegular():
			text, err := fs.ReadFile(f.FS, name)
			if err != nil {
				f.remark("/%s could not be read, so the new home folders lack it: %v", name, err)
				return nil
			}
			c := f.write(to, why, 0o644, text)
			c.UID, c.GID = uid, gid
		}
		return nil
	})
}

// Words says a change in a line.
func (c Change) Words() string {
	switch c.Do {
	case Link:
		return fmt.Sprintf("link    /%s -> %s", c.Path, c.Target)
	case Remove:
		return "remove  /" + c.Path
	case Folder:
		return fmt.Sprintf("folder  /%s, %04o", c.Path, c.Mode)
	}
	return fmt.Sprintf("write   /%s, %d bytes, %04o", c.Path, len(c.Content), c.Mode)
}
