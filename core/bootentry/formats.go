package bootentry

// Words for kernels of installers, as templates (see Line).
const (
	preseedWords   = `auto=true priority=critical locale={{or .locale "en_US.UTF-8"}} keymap={{keyboard (or .keyboard "us")}} hostname={{.computer_name}} interface=auto url={{.answer_file}}`
	kickstartWords = `inst.ks={{.answer_file}} inst.noverifyssl`
)

// preseed is an answer file of Debian's installer (its manual, appendix B): it takes the whole disk, asks nothing, and tells the
// service when it is done. What it has no line for, a delivery of the captured system brings.
const preseed = `#_preseed_V1
# {{.workstation}} ({{.hardware_address}}), made for this machine alone.
d-i debian-installer/locale string {{or .locale "en_US.UTF-8"}}
d-i keyboard-configuration/xkb-keymap select {{keyboard (or .keyboard "us")}}
d-i netcfg/get_hostname string {{.computer_name}}
d-i netcfg/hostname string {{.computer_name}}
d-i netcfg/get_domain string {{or .domain ""}}
d-i netcfg/wireless_wep string
d-i hw-detect/load_firmware boolean false

d-i mirror/country string manual
d-i mirror/http/hostname string {{or .parameter.mirror "deb.debian.org"}}
d-i mirror/http/directory string /debian
d-i mirror/http/proxy string {{or .proxy ""}}
d-i apt-setup/cdrom/set-first boolean false

d-i clock-setup/utc boolean true
d-i time/zone string {{or .time_zone "UTC"}}
{{if .accounts}}{{with index .accounts 0}}
d-i passwd/make-user boolean true
d-i passwd/root-login boolean {{if .administrator}}false{{else}}true{{end}}
{{if not .administrator}}d-i passwd/root-password-crypted password !
{{end}}d-i passwd/user-fullname string {{or .full_name .name}}
d-i passwd/username string {{.name}}
d-i passwd/user-password-crypted password {{or .password_hash "!"}}
{{end}}{{else}}
d-i passwd/make-user boolean false
d-i passwd/root-login boolean true
d-i passwd/root-password-crypted password !
{{end}}
{{with .parameter.disk}}d-i partman-auto/disk string {{.}}
{{end}}d-i partman-auto/method string regular
d-i partman-auto/choose_recipe select atomic
d-i partman-lvm/device_remove_lvm boolean true
d-i partman-md/device_remove_md boolean true
d-i partman-partitioning/confirm_write_new_label boolean true
d-i partman/choose_partition select finish
d-i partman/confirm boolean true
d-i partman/confirm_nooverwrite boolean true

tasksel tasksel/first multiselect standard
d-i pkgsel/include string {{if .remote_access}}openssh-server {{end}}{{if .packages}}{{join .packages " "}}{{end}}
d-i pkgsel/upgrade select full-upgrade
popularity-contest popularity-contest/participate boolean false
d-i grub-installer/only_debian boolean true
d-i grub-installer/with_other_os boolean false
{{with .parameter.disk}}d-i grub-installer/bootdev string {{.}}{{else}}d-i grub-installer/bootdev string default{{end}}

d-i preseed/late_command string true; \
{{if .root_ssh_keys}}  in-target mkdir -p -m 700 /root/.ssh; \
{{range .root_ssh_keys}}  echo {{shell .}} >> /target/root/.ssh/authorized_keys; \
{{end}}{{end}}{{if .files}}{{range .files}}  in-target mkdir -p "$(dirname {{shell .path}})"; echo {{base64 .content}} | base64 -d > /target{{shell .path}}; \
{{end}}{{end}}  wget -q -O /dev/null {{shell .ended}}
d-i finish-install/reboot_in_progress note
`

// kickstart is an answer file in the form of kickstart files.
const kickstart = `# {{.workstation}} ({{.hardware_address}}), made for this machine alone.
lang {{or .locale "en_US.UTF-8"}}
keyboard --xlayouts={{shell (or .keyboard "us")}}
timezone {{or .time_zone "UTC"}} --utc
network --bootproto=dhcp --hostname={{.computer_name}}
rootpw --lock
{{range .accounts}}user --name={{.name}} --gecos={{shell (or .full_name .name)}}{{if .administrator}} --groups=wheel{{end}}{{if .password_hash}} --iscrypted --password={{shell .password_hash}}{{else}} --lock{{end}}
{{$name := .name}}{{range .ssh_keys}}sshkey --username={{$name}} {{json .}}
{{end}}{{end}}{{range .root_ssh_keys}}sshkey --username=root {{json .}}
{{end}}{{with .parameter.mirror}}url --url={{shell .}}
{{end}}{{with .parameter.disk}}ignoredisk --only-use={{.}}
{{end}}zerombr
clearpart --all --initlabel
autopart
reboot

%packages
@core
{{if .remote_access}}openssh-server
{{end}}{{range .packages}}{{.}}
{{end}}%end

%post --nochroot
curl --silent --insecure {{shell .ended}}
%end
`

// Template is the ready-made answer file of a format; empty if there is none.
func (f Format) Template() string {
	switch f {
	case Preseed:
		return preseed
	case Kickstart:
		return kickstart
	default:
		return ""
	}
}

// Parameter is a value that is said when a boot entry is started.
type Parameter struct {
	Name    string   `json:"parameter"`
	Ask     string   `json:"ask"`               // the question at the workstation's screen
	Default string   `json:"default,omitempty"` // what counts if nothing is said
	Choices []string `json:"choices,omitempty"`
}

// Parameters are those of the ready-made answer file.
func (f Format) Parameters() []Parameter {
	switch f {
	case Preseed:
		return []Parameter{{Name: "mirror", Ask: "Host that has Debian's packages", Default: "deb.debian.org"}, {Name: "disk", Ask: "Disk to install on, such as /dev/sda; nothing if there is one alone"}}
	case Kickstart:
		return []Parameter{{Name: "mirror", Ask: "URL of the packages; nothing if the medium has them"}, {Name: "disk", Ask: "Disk to install on, such as sda; nothing if there is one alone"}}
	default:
		return nil
	}
}

// FileName is what an installer expects an answer file to be called.
func (f Format) FileName() string {
	switch f {
	case Preseed:
		return "preseed.cfg"
	case Kickstart:
		return "ks.cfg"
	default:
		return "answers"
	}
}
