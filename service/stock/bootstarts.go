package stock

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/boot"
	"jugate/core/bootentry"
	"jugate/core/errand"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/order"
	"jugate/core/slabstore"
	"jugate/records"
)

// ownFileFor is how long after a boot script the answer file that belongs to it can be fetched.
const ownFileFor = 4 * time.Hour

// OwnPath is where each machine has its own answer file, below a ticket.
const OwnPath = "/boot/own/"

// ownEnd is what is fetched there to say that a boot entry has done its work.
const ownEnd = "ended"

// asked is a boot entry as it was asked for.
type asked struct {
	entry
	said   map[string]string // its parameters
	once   bool
	errand int64
}

// machineOf is what is known of a workstation, by what it told when it last checked in, and by the loader that asks.
func (k *Stock) machineOf(ctx context.Context, w records.Workstation, l *netboot.Loader) (m bootentry.Machine) {
	known := false
	if w.ID != 0 {
		if inv, err := k.Records.Inventory(ctx, w.ID); err == nil && inv.Firmware != "" {
			known = true
			m = bootentry.Machine{Firmware: bootentry.Firmware(inv.Firmware), SecureBoot: inv.SecureBoot, Memory: inv.Memory}
		}
	}
	if l == nil {
		return m
	}
	m.Loader, m.Firmware = true, bootentry.BIOS
	if l.EFI {
		m.Firmware = bootentry.UEFI
		if !known { // the signed loader knows HTTP unless Secure Boot keeps it from that
			m.SecureBoot = !l.HTTP
		}
	} else {
		m.SecureBoot = false
	}
	return m
}

// prepare makes what a machine is told to start a boot entry, and the record of that. The error is a fault.Conflict if it cannot.
func (k *Stock) prepare(ctx context.Context, l netboot.Loader, w records.Workstation, address hwaddr.Address, a asked) (*netboot.Entry, *records.BootStart, error) {
	start, err := a.startFor(k.machineOf(ctx, w, &l))
	if err != nil {
		return nil, nil, err
	}
	ticket := rand.Text()
	record := &records.BootStart{Entry: a.Name, Version: a.shown.Number, Way: string(start.Way), File: start.Files[0].Part.Digest.String(), Once: a.once,
		ErrandID: sql.NullInt64{Int64: a.errand, Valid: a.errand != 0}, Ticket: ticketDigest(ticket), Made: k.Now()}
	record.SetParameters(a.said)
	out := &netboot.Entry{Name: a.ref(), Bits64: start.Arch == bootentry.X64}
	first := start.Files[0].Part
	if start.Way == bootentry.Program {
		out.Program = boot.EntryFile(first, boot.EntryProgram)
	} else {
		out.Kernel = boot.EntryFile(first, boot.EntryKernel)
	}
	for i, f := range start.Files[1:] {
		out.Initrds = append(out.Initrds, boot.EntryFile(f.Part, fmt.Sprintf("initrd-%d", i+1)))
	}
	values, err := k.valuesFor(ctx, w, address, a, ownAt(l.Server, ticket, a))
	if err != nil {
		return nil, nil, err
	}
	if out.Words, err = bootentry.Line.Render(a.words(), values); err != nil {
		return nil, nil, fmt.Errorf("the kernel's words: %w", err)
	}
	if template := a.answerFile(); template != "" {
		if _, err := bootentry.AnswerFile.Render(template, values); err != nil { // before it erases anything
			return nil, nil, fmt.Errorf("the answer file: %w", err)
		}
		if a.reads() == bootentry.Preseed && len(out.Initrds) > 0 {
			out.Initrds = append(out.Initrds, boot.AuthorityFile)
		}
	}
	return out, record, nil
}

func ticketDigest(ticket string) string { return slabstore.Sum([]byte(ticket)).String() }

// own says where a machine has what is its own.
type own struct{ answers, end string }

func ownAt(server, ticket string, a asked) own {
	base := "https://" + server + OwnPath + ticket + "/"
	return own{base + a.reads().FileName(), base + ownEnd}
}

// startFor is how a machine starts it.
func (e *entry) startFor(m bootentry.Machine) (*bootentry.Start, error) {
	if e.shown == nil {
		return nil, fault.Conflict.Errorf("the boot entry %s has nothing to start", e.Name)
	}
	s, err := e.found.For(m)
	if err != nil {
		return nil, fmt.Errorf("the boot entry %s cannot be started: %w", e.Name, err)
	}
	return s, nil
}

// valuesFor are what templates of a boot entry can name at a workstation.
func (k *Stock) valuesFor(ctx context.Context, w records.Workstation, address hwaddr.Address, a asked, at own) (bootentry.Values, error) {
	settings, err := k.Fleet.Settings(ctx, w)
	if err != nil {
		return nil, err
	}
	values, err := bootentry.NewValues(settings)
	if err != nil {
		return nil, err
	}
	said, err := a.values(a.said)
	if err != nil {
		return nil, err
	}
	values[bootentry.Parameters], values[bootentry.OfAddress] = said, address.String()
	values[bootentry.AnswerURL], values[bootentry.EndURL] = at.answers, at.end
	for name, text := range map[string]string{bootentry.OfWorkstation: w.Label(), bootentry.OfModel: w.Model, bootentry.OfSerial: w.Serial} {
		if text != "" {
			values[name] = text
		}
	}
	return values, nil
}

// askedFor is the boot entry that a workstation boots in place of its disk: by an errand, by a choice for one start, for every
// start, or by its groups. It is nil if there is none.
func (k *Stock) askedFor(ctx context.Context, w records.Workstation, e *records.Errand) (*asked, error) {
	if e != nil && e.Kind == errand.Entry {
		in, err := records.OptionsOf[api.EntryErrand](e)
		if err != nil {
			return nil, err
		}
		one, _, err := k.named(ctx, in.Entry)
		if errors.Is(err, fault.NotFound) {
			k.Orders.EntryEnded(ctx, e.ID, err.Error())
			return nil, nil
		}
		return &asked{one, in.Parameters, false, e.ID}, err
	}
	choice, err := k.Records.ChosenBoot(ctx, w.ID)
	if choice == nil || err != nil {
		return nil, err
	}
	one, _, err := k.named(ctx, choice.Entry)
	if err != nil {
		return nil, err
	}
	said, err := choice.Parameters()
	return &asked{one, said, choice.Once, 0}, err
}

// endStarts ends what a workstation has started before, as it asks what to boot.
func (k *Stock) endStarts(ctx context.Context, w records.Workstation) error {
	ended, err := k.Records.EndBootsOf(ctx, k.Now(), w.ID)
	for _, s := range ended {
		k.Log.Info("boot entry ended", "entry", s.Entry, "version", s.Version, "workstation", w.Label(), "how", s.How)
		if !s.ErrandID.Valid {
			continue
		}
		why := ""
		if e, _, err := k.named(ctx, s.Entry); err == nil && e.tells() {
			why = "the workstation has restarted, and " + s.Entry + " has not said that it was done"
		}
		k.Orders.EntryEnded(ctx, s.ErrandID.Int64, why)
	}
	if len(ended) > 0 {
		k.Publish(api.BootEntriesChanged{})
	}
	return err
}

// entriesFor are the boot entries that a workstation has in its boot menu without anybody signing in.
func (k *Stock) entriesFor(ctx context.Context, l netboot.Loader, w records.Workstation, address hwaddr.Address) (items []netboot.MenuItem, starts []records.BootStart, err error) {
	all, err := k.allEntries(ctx)
	for _, e := range all {
		if e.set.Hidden || !slices.Contains(e.set.Released, order.Everybody) {
			continue
		}
		if !k.isFor(ctx, e, w) {
			continue
		}
		if e.asks() {
			items = append(items, netboot.MenuItem{Title: e.title(), Wish: "entry:" + e.Name})
			continue
		}
		entry, start, err := k.prepare(ctx, l, w, address, asked{entry: e})
		if err != nil {
			k.Log.Debug("a boot entry is not in the menu", "entry", e.Name, "workstation", address, "error", err)
			continue
		}
		items, starts = append(items, netboot.MenuItem{Title: e.title(), Entry: entry}), append(starts, *start)
	}
	return items, starts, err
}

// isFor tells whether a boot entry is for a workstation. A machine that nobody has admitted gets those alone that are for all.
func (k *Stock) isFor(ctx context.Context, e entry, w records.Workstation) bool {
	if len(e.set.To) == 0 && e.set.Where == "" {
		return true
	}
	if w.ID == 0 || w.State.Unknown() {
		return false
	}
	fits, err := k.Fleet.Means(ctx, e.set.To, e.set.Where, w)
	if err != nil {
		k.Log.Warn("nobody can tell for whom a boot entry is", "entry", e.Name, "error", err)
	}
	return fits && err == nil
}

// EntryLoaded notes that a machine has loaded the program, kernel or disc of a boot entry.
func (k *Stock) EntryLoaded(ctx context.Context, a hwaddr.Address, file slabstore.Digest) {
	w, err := k.Records.FindWorkstation(ctx, a.String())
	if err != nil {
		return // nobody has admitted it, and nothing is kept of it
	}
	s, err := k.Records.BootLoaded(ctx, k.Now(), w.ID, file.String())
	if err == nil && s == nil {
		s, err = k.discLoaded(ctx, *w, file)
	}
	switch {
	case err != nil:
		k.Log.Error("the start of a boot entry could not be noted", "workstation", w.Label(), "error", err)
	case s != nil:
		k.Log.Info("boot entry started", "entry", s.Entry, "version", s.Version, "workstation", w.Label())
		k.Publish(api.BootEntriesChanged{})
	}
}

// disc is the disc that a workstation's firmware takes into its memory, if it loads by HTTP; nil if it is to start the loader.
func (k *Stock) disc(ctx context.Context, w records.Workstation) (*asked, *bootentry.Start, error) {
	e, err := k.Records.NextErrand(ctx, k.Now(), w.ID)
	if err != nil {
		return nil, nil, err
	}
	a, err := k.askedFor(ctx, w, e)
	if a == nil || err != nil || a.shown == nil || e != nil && a.errand == 0 && !a.once {
		return nil, nil, err
	}
	m := k.machineOf(ctx, w, nil)
	m.Firmware = bootentry.UEFI
	s, err := a.found.For(m)
	if err != nil || s.Way != bootentry.Disc {
		return nil, nil, nil // the script says why, if it cannot be
	}
	return a, s, nil
}

// discLoaded notes that firmware has taken a disc into its memory.
func (k *Stock) discLoaded(ctx context.Context, w records.Workstation, file slabstore.Digest) (*records.BootStart, error) {
	a, s, err := k.disc(ctx, w)
	if a == nil || err != nil || s.Files[0].Part.Digest != file {
		return nil, err
	}
	start := records.BootStart{Entry: a.Name, Version: a.shown.Number, Way: string(s.Way), File: file.String(), Once: a.once, ErrandID: sql.NullInt64{Int64: a.errand, Valid: a.errand != 0},
		Ticket: ticketDigest(rand.Text()), Made: k.Now()}
	start.SetParameters(a.said)
	if err := k.Records.AddBootStarts(ctx, w.ID, []records.BootStart{start}); err != nil {
		return nil, err
	}
	return k.Records.BootLoaded(ctx, k.Now(), w.ID, start.File)
}

// OwnFile is what a machine fetches by its ticket: its answer file, or what says that the boot entry has done its work.
func (k *Stock) OwnFile(ctx context.Context, ticket, name, server, from string) (text string, err error) {
	defer func() {
		if err != nil {
			k.Log.Warn("an answer file was refused", "from", from, "file", name, "error", err)
		}
	}()
	digest := ticketDigest(ticket)
	s, err := k.Records.BootOf(ctx, digest)
	if err != nil {
		return "", err
	}
	w, err := k.Records.Workstation(ctx, s.WorkstationID)
	if err == nil {
		err = k.mustBe(*w, from)
	}
	switch {
	case err != nil:
		return "", err
	case name == ownEnd:
		return "", k.endTold(ctx, digest, from)
	}
	if s, err = k.Records.FetchBoot(ctx, k.Now(), digest, from, ownFileFor); err != nil {
		return "", err
	}
	e, _, err := k.named(ctx, s.Entry)
	if err != nil {
		return "", err
	}
	said, err := s.Parameters()
	if err != nil {
		return "", err
	}
	a := asked{entry: e, said: said}
	if name != a.reads().FileName() || a.answerFile() == "" {
		return "", fault.NotFound.Errorf("the boot entry %s has no file %q", e.Name, name)
	}
	values, err := k.valuesFor(ctx, *w, w.Address(), a, ownAt(server, ticket, a))
	if err != nil {
		return "", err
	}
	text, err = bootentry.AnswerFile.Render(a.answerFile(), values)
	if err == nil {
		k.Log.Info("answer file fetched", "entry", s.Entry, "workstation", w.Label(), "file", name, "from", from, "bytes", len(text))
		k.Publish(api.BootEntriesChanged{})
	}
	return text, err
}

// endTold ends a start, as the boot entry has said so itself.
func (k *Stock) endTold(ctx context.Context, digest, from string) error {
	s, err := k.Records.EndBoot(ctx, k.Now(), digest, from)
	if err != nil {
		return err
	}
	k.Log.Info("boot entry ended", "entry", s.Entry, "version", s.Version, "workstation", s.Workstation, "how", records.EndTold)
	if s.ErrandID.Valid {
		k.Orders.EntryEnded(ctx, s.ErrandID.Int64, "")
	}
	k.Publish(api.BootEntriesChanged{})
	return nil
}

// mustBe refuses whoever has another hardware address than a workstation. Of those that are behind a router nobody knows.
func (k *Stock) mustBe(w records.Workstation, from string) error {
	address, err := netip.ParseAddr(from)
	if err != nil {
		return err
	}
	if who, known := k.Boot.Neighbour(address); known && !slices.Contains(w.Addresses(), who) {
		return fault.Forbidden.Errorf("this is for %s, and %s asks for it", w.Label(), who)
	}
	return nil
}

// PreviewBootEntry shows what a workstation would be given with a boot entry.
func (k *Stock) PreviewBootEntry(ctx context.Context, name, ref string, said map[string]string) (api.BootPreview, error) {
	e, _, err := k.named(ctx, name)
	if err != nil {
		return api.BootPreview{}, err
	}
	w, err := k.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return api.BootPreview{}, err
	}
	start, err := e.startFor(k.machineOf(ctx, *w, nil))
	if err != nil {
		return api.BootPreview{}, err
	}
	out := api.BootPreview{Workstation: w.Label(), Entry: e.Name, Version: e.shown.Number, Way: string(start.Way), Remarks: []string{}}
	a := asked{entry: e, said: said}
	values, err := k.valuesFor(ctx, *w, w.Address(), a, ownAt("SERVICE", "TICKET", a))
	if err != nil {
		return out, err
	}
	hideSecrets(values)
	if start.Way != bootentry.Disc {
		if out.Words, err = bootentry.Line.Render(a.words(), values); err != nil {
			return out, fmt.Errorf("the kernel's words: %w", err)
		}
	}
	if template := a.answerFile(); template != "" {
		out.FileName = a.reads().FileName()
		if out.AnswerFile, err = bootentry.AnswerFile.Render(template, values); err != nil {
			return out, fmt.Errorf("the answer file: %w", err)
		}
		_, named := a.names()
		for _, key := range values.Unused(named) {
			out.Remarks = append(out.Remarks, "the answer file has no place for "+key)
		}
	}
	return out, nil
}

// hideSecrets puts words in place of what nobody is shown.
func hideSecrets(values bootentry.Values) {
	const hidden = "(set)"
	if values["product_key"] != nil {
		values["product_key"] = hidden
	}
	accounts, _ := values["accounts"].([]any)
	for _, a := range accounts {
		if account, is := a.(map[string]any); is && account["password_hash"] != "" {
			account["password_hash"] = hidden
		}
	}
}

// BootStarts lists starts of boot entries, the newest first.
func (k *Stock) BootStarts(ctx context.Context, workstation, name string, p records.Page) ([]api.BootStart, int, error) {
	f := records.BootStartFilter{Entry: name}
	if workstation != "" {
		w, err := k.Records.FindWorkstation(ctx, workstation)
		if err != nil {
			return nil, 0, err
		}
		f.Workstation = w.ID
	}
	rows, total, err := k.Records.BootStarts(ctx, f, p)
	if err != nil {
		return nil, 0, err
	}
	all := make([]api.BootStart, len(rows))
	for i, s := range rows {
		said, err := s.Parameters()
		if err != nil {
			return nil, 0, err
		}
		all[i] = api.BootStart{ID: s.ID, Workstation: s.Workstation, Entry: s.Entry, Version: s.Version, Way: s.Way, Parameters: said, Made: s.Made,
			Loaded: records.TimeOf(s.Loaded), Fetched: records.TimeOf(s.Fetched), FetchedBy: s.FetchedBy, Ended: records.TimeOf(s.Ended), How: s.How}
	}
	return all, total, nil
}

// whyNot is an error as a reason on a line of a list.
func whyNot(err error) string { return strings.TrimPrefix(err.Error(), "the boot entry ") }
