package madeup

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/smallstep/pkcs7"
)

// The devices of the made-up models, as Linux names them. Vendors FE01 and following
// belong to nobody.
const (
	AlderNetwork   = "pci:v0000FE01d00001000sv0000FE01sd00000001bc02sc00i00" // of the A310 and of the A520
	AlderDisk      = "pci:v0000FE01d00002000sv0000FE01sd00000001bc01sc06i01"
	BrindleNetwork = "pci:v0000FE02d00001500sv0000FE02sd00000010bc02sc00i00" // of the Mini 2
	CorvidDisk     = "pci:v0000FE03d00003000sv0000FE01sd00000520bc01sc04i00" // of the A520: the one that nothing drives
	WrenSound      = "pci:v0000FE04d00004000sv0000FE04sd00000001bc04sc03i00"
)

// An INF file of a network card: 64-bit and 32-bit models, an older and a newer
// system, strings in two languages.
const alderINF = `; Alder Works Gigabit, made up
[Version]
Signature   = "$Windows NT$"
Class       = Net
ClassGuid   = {4d36e972-e325-11ce-bfc1-08002be10318}
Provider    = %Alder%
CatalogFile = aldernet.cat
DriverVer   = VERSION

[Manufacturer]
%Alder% = Alder, NTamd64, NTamd64.10.0...16299, NTx86

[Alder.NTamd64]
%Gigabit% = Gigabit, PCI\VEN_FE01&DEV_1000

[Alder.NTamd64.10.0...16299]
%Gigabit%  = Gigabit, PCI\VEN_FE01&DEV_1000&SUBSYS_0001FE01, \
             PCI\VEN_FE01&DEV_1000
%Gigabit5% = Gigabit, PCI\VEN_FE01&DEV_1005

[Alder.NTx86]
%Gigabit% = Gigabit, PCI\VEN_FE01&DEV_1000

[Gigabit.NTamd64]
CopyFiles = Gigabit.Files

[Gigabit.NTx86]
CopyFiles = @aldern32.sys

[Gigabit.Files]
aldernet.sys

[SourceDisksNames]
1 = %Disk%,,,

[SourceDisksFiles]
aldernet.sys = 1
aldern32.sys = 1

[Strings]
Alder    = "Alder Works"
Gigabit  = "Alder Works Gigabit ""garden"" card"
Gigabit5 = "Alder Works 5 Gigabit card"
Disk     = "Alder Works drivers"

[Strings.0407]
Gigabit  = "Alder Works Gigabit-Karte"
`

// An INF file of a disk controller: in the old 8-bit text, without a catalogue.
const corvidINF = "[Version]\r\nSignature=\"$Windows NT$\"\r\nClass=SCSIAdapter\r\nClassGuid={4D36E97B-E325-11CE-BFC1-08002BE10318}\r\nProvider=%Corvid%\r\nDriverVer=03/09/2026,2.0.1.0\r\n" +
	"[Manufacturer]\r\n%Corvid%=Corvid,NTamd64\r\n[Corvid.NTamd64]\r\n%Raid%=Raid,PCI\\VEN_FE03&DEV_3000\r\n" +
	"[Raid]\r\nCopyFiles=@corvraid.sys\r\n[SourceDisksNames]\r\n1=%Raid%,,,\\x64\r\n[SourceDisksFiles]\r\ncorvraid.sys=1\r\n" +
	"[Raid.Services]\r\nAddService=corvraid,2,Service\r\n[Service]\r\nDisplayName=%Raid%\r\nServiceType=1\r\nStartType=0\r\nErrorControl=1\r\nServiceBinary=%12%\\corvraid.sys\r\n" +
	"LoadOrderGroup=SCSI Miniport\r\nAddReg=Settings\r\n[Settings]\r\nHKR,Parameters\\PnpInterface,5,0x10001,1\r\nHKR,,IORate,0x10001,0x40\r\n" +
	"[Strings]\r\nCorvid=\"Corvid Gr\xe4tz\"\r\nRaid=\"Corvid RAID\"\r\n"

// WriteINF writes the INF packages into a folder: two versions of a network card's
// driver, a disk controller's that nobody signed, and one that is broken.
func WriteINF(dir string) error {
	for _, v := range []struct{ folder, ver string }{{"alder/old", "05/20/2024,1.4.0.7"}, {"alder/new", "02/11/2026,1.6.2.0"}} {
		text := strings.Replace(alderINF, "VERSION", v.ver, 1)
		cat, err := catalogue("Alder Works (made up)", text)
		if err != nil {
			return err
		}
		if err := write(dir, map[string][]byte{
			v.folder + "/aldernet.inf": utf16LE(text), v.folder + "/AlderNet.sys": []byte("no code, " + v.ver), v.folder + "/aldern32.sys": []byte("no code"), v.folder + "/aldernet.cat": cat,
		}); err != nil {
			return err
		}
	}
	return write(dir, map[string][]byte{
		"corvid/corvraid.inf": []byte(corvidINF), "corvid/x64/corvraid.sys": []byte("no code either"),
		"broken/wren.inf": []byte("[Manufacturer]\n%Wren%=Wren\n[Wren]\n"), "readme.txt": []byte("Made up.\n"),
	})
}

// WriteModules writes a package of kernel modules into a folder, for the disk
// controller that the made-up kernel does not know: the module, another one that it
// needs, and firmware.
func WriteModules(dir string) error {
	return write(dir, map[string][]byte{
		"corvid_raid.ko": KernelModule("corvid_raid", "corvid_lib", "version=2.0.1", "description=Corvid RAID controller (made up)", "alias=pci:v0000FE03d00003000sv*sd*bc*sc*i*", "firmware=corvid/raid.bin"),
		"corvid_lib.ko":  KernelModule("corvid_lib", "", "version=2.0.1"), "firmware/corvid/raid.bin": []byte("made-up firmware\n"),
	})
}

// WriteKernel writes what a system has of the made-up kernel's modules, below root: it
// drives all devices of the made-up models but CorvidDisk.
func WriteKernel(root string) error {
	modules := "lib/modules/" + Kernel + "/"
	return write(root, map[string][]byte{
		modules + "kernel/drivers/net/ethernet/aldernet.ko":   KernelModule("aldernet", "", "alias=pci:v0000FE01d00001000sv*sd*bc*sc*i*"),
		modules + "kernel/drivers/net/ethernet/brindlenet.ko": KernelModule("brindlenet", "", "alias=pci:v0000FE02d00001500sv*sd*bc*sc*i*"),
		modules + "kernel/drivers/ata/alderdisk.ko":           KernelModule("alderdisk", "", "alias=pci:v0000FE01d00002000sv*sd*bc01sc06i01*"),
		modules + "modules.dep":                               []byte("kernel/drivers/net/ethernet/aldernet.ko:\nkernel/drivers/net/ethernet/brindlenet.ko:\nkernel/drivers/ata/alderdisk.ko:\n"),
		modules + "modules.alias": []byte("# Aliases extracted from modules themselves.\nalias pci:v0000FE01d00001000sv*sd*bc*sc*i* aldernet\n" +
			"alias pci:v0000FE02d00001500sv*sd*bc*sc*i* brindlenet\nalias pci:v0000FE01d00002000sv*sd*bc01sc06i01* alderdisk\n"),
		modules + "modules.builtin": []byte("kernel/lib/crc32.ko\n"),
		"etc/os-release":            []byte("PRETTY_NAME=\"Garden Linux 3 (made up)\"\nID=garden\n"),
		"etc/hostname":              []byte("desk-gold\n"),
		"etc/passwd":                []byte("root:x:0:0:root:/root:/bin/sh\n"),
		"etc/shadow":                []byte("root:*:19000:0:99999:7:::\n"),
		"etc/group":                 []byte("root:x:0:\nsudo:x:27:\n"),
		"etc/systemd/system/none":   []byte("no unit\n"),
		"boot/vmlinuz-" + Kernel:    []byte("no kernel\n"),
	})
}

func write(dir string, files map[string][]byte) error {
	for name, content := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func utf16LE(s string) []byte {
	b := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(strings.ReplaceAll(s, "\n", "\r\n"))) {
		b = append(b, byte(u), byte(u>>8))
	}
	return b
}

// catalogue is a signed list; what it lists is made up.
func catalogue(signer, content string) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: signer},
		NotBefore: time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), NotAfter: time.Date(2044, 1, 1, 0, 0, 0, 0, time.UTC), KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	signed, err := pkcs7.NewSignedData([]byte(content))
	if err != nil {
		return nil, err
	}
	signed.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := signed.AddSigner(certificate, key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, fmt.Errorf("sign the made-up catalogue: %w", err)
	}
	return signed.Finish()
}
