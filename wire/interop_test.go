package wire_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fec"
	"jugate/core/norm"
	"jugate/wire"
)

// peer is a program made of the reference library.
var peer = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "peer")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "peer")
	out, err := exec.Command("g++", "-O2", "-o", path, "testdata/peer/peer.cpp", "-lnorm").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("build the peer: %w\n%s", err, out)
	}
	return path, err
})

func TestMain(m *testing.M) {
	code := m.Run()
	if path, err := peer(); err == nil {
		os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

var groups = struct {
	sync.Mutex
	last byte
}{}

// channel is a group of its own on the loopback interface.
func channel(t *testing.T) wire.Config {
	groups.Lock()
	defer groups.Unlock()
	groups.last++
	return wire.Config{Group: netip.AddrPortFrom(netip.AddrFrom4([4]byte{233, 252, 0, 100 + groups.last}), uint16(26000+int(groups.last))), Interface: "lo", TTL: wire.NoTTL}
}

// run starts the peer and waits until it listens, if it is to.
func run(t *testing.T, verb string, c wire.Config, args ...string) (wait func() (string, error)) {
	t.Helper()
	path, err := peer()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), path, append([]string{verb, c.Group.Addr().String(), fmt.Sprint(c.Group.Port()), c.Interface, "seconds=300", "grtt=0.02"}, args...)...)
	var out bytes.Buffer
	stdout, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = &out
	require.NoError(t, cmd.Start())
	if verb == "receive" {
		line := make([]byte, len("listening\n"))
		_, err := io.ReadFull(stdout, line)
		require.NoError(t, err, "the peer does not listen")
	}
	return func() (string, error) {
		said, _ := io.ReadAll(stdout)
		if err := cmd.Wait(); err != nil {
			return string(said), fmt.Errorf("%w: %s", err, out.String())
		}
		return string(said), nil
	}
}

// lossy loses a share of the packets, each receiver others.
type lossy struct {
	wire.Reader
	share float64
	dice  *rand.Rand
}

func (l *lossy) ReadBatch(ms []wire.Message, flags int) (int, error) {
	n, err := l.Reader.ReadBatch(ms, flags)
	for i := range max(n, 0) {
		if l.dice.Float64() < l.share {
			ms[i].N = 0
		}
	}
	return n, err
}

// made writes files of these sizes and returns their paths.
func made(t *testing.T, sizes ...int) (paths []string) {
	t.Helper()
	dir := t.TempDir()
	for i, size := range sizes {
		f, err := os.Create(filepath.Join(dir, fmt.Sprintf("file-%d", i)))
		require.NoError(t, err)
		_, err = io.CopyN(f, rand.NewChaCha8([32]byte{byte(i)}), int64(size))
		require.NoError(t, err)
		require.NoError(t, f.Close())
		paths = append(paths, f.Name())
	}
	return paths
}

// sender has symbols of this size.
func sender(symbol int) norm.SenderConfig { return norm.SenderConfig{Rate: 50e6, SymbolSize: symbol} }

func digest(t *testing.T, path string) [32]byte {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	require.NoError(t, err)
	return [32]byte(h.Sum(nil))
}

// same holds a folder's files against the ones that were sent.
func same(t *testing.T, paths []string, dir string) {
	t.Helper()
	for _, p := range paths {
		assert.Equal(t, digest(t, p), digest(t, filepath.Join(dir, filepath.Base(p))), "%s of %s", filepath.Base(p), dir)
	}
}

// receive lets so many of our receivers take files, and returns when they have
// them.
func receive(t *testing.T, c wire.Config, receivers int, loss float64, config norm.ReceiverConfig, count int) (dirs []string, wait func()) {
	t.Helper()
	var all sync.WaitGroup
	ready := make(chan struct{}, receivers)
	for i := range receivers {
		dir := t.TempDir()
		dirs = append(dirs, dir)
		all.Go(func() {
			through := func(r wire.Reader) wire.Reader {
				ready <- struct{}{}
				return &lossy{r, loss, rand.New(rand.NewPCG(uint64(i), 1))}
			}
			report, err := wire.ReceiveFiles(t.Context(), c, config, dir, wire.ReceiveOptions{Count: count, Wait: time.Minute, Through: through})
			assert.NoError(t, err, "receiver %d: %+v", i, report)
			if loss > 0.02 {
				assert.Positive(t, report.Lost)
			}
		})
	}
	for range receivers {
		<-ready
	}
	return dirs, all.Wait
}

type exchange struct {
	loss      int // percent
	receivers int
	rate      float64
	sizes     []int
	unicast   bool
	block     int
}

var exchanges = []exchange{
	{0, 1, 100e6, []int{0, 1, 1399, 1400, 1401, 100_000}, false, 64},
	{0, 8, 60e6, []int{5_000_000}, false, 64},
	{1, 4, 60e6, []int{3_000_000, 20, 2_000_000}, true, 64},
	{1, 1, 160e6, []int{200_000_000}, false, 64},
	{5, 8, 30e6, []int{2_000_000}, false, 20},
	{10, 2, 40e6, []int{4_000_000, 7}, true, 100},
	{10, 1, 40e6, []int{4_000_000}, false, 127},
}

func (x exchange) String() string {
	return fmt.Sprintf("%d receivers, %d %% loss, %d bytes, blocks of %d, unicast %v", x.receivers, x.loss, x.sizes, x.block, x.unicast)
}

func TestTheReferenceLibraryReceivesOurFiles(t *testing.T) {
	for _, x := range exchanges {
		t.Run(x.String(), func(t *testing.T) {
			c := channel(t)
			paths := made(t, x.sizes...)
			var dirs []string
			var waits []func() (string, error)
			for i := range x.receivers {
				dirs = append(dirs, t.TempDir())
				unicast := 0
				if x.unicast {
					unicast = 1
				}
				waits = append(waits, run(t, "receive", c, fmt.Sprint("id=", 10+i), fmt.Sprint("loss=", x.loss), fmt.Sprint("count=", len(paths)), fmt.Sprint("unicast=", unicast), dirs[i]))
			}
			report, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{
				Node: 1, Rate: x.rate, SymbolSize: 1400, MaxBlock: x.block, MaxParity: min(x.block, 64), Points: fec.ZeroFirst}, paths, nil, nil)
			require.NoError(t, err)
			for i, wait := range waits {
				_, err := wait()
				require.NoError(t, err)
				same(t, paths, dirs[i])
			}
			if x.loss > 2 {
				assert.Positive(t, report.Parity)
			}
			t.Logf("%+v", report)
		})
	}
}

func TestWeReceiveTheReferenceLibrarysFiles(t *testing.T) {
	for _, x := range exchanges {
		t.Run(x.String(), func(t *testing.T) {
			c := channel(t)
			paths := made(t, x.sizes...)
			if x.sizes[0] == 0 {
				paths = paths[1:] // it cannot send what has no bytes
			}
			dirs, wait := receive(t, c, x.receivers, float64(x.loss)/100, norm.ReceiverConfig{Unicast: x.unicast}, len(paths))
			ended := run(t, "send", c, append([]string{fmt.Sprint("rate=", x.rate), fmt.Sprint("block=", x.block), fmt.Sprint("parity=", min(x.block, 64))}, paths...)...)
			wait()
			_, err := ended()
			require.NoError(t, err)
			for _, dir := range dirs {
				same(t, paths, dir)
			}
		})
	}
}

func TestDataAndStreamsBothWays(t *testing.T) {
	t.Run("its data", func(t *testing.T) {
		c, paths := channel(t), made(t, 100_000, 1)
		dirs, wait := receive(t, c, 2, 0.05, norm.ReceiverConfig{}, 2)
		ended := run(t, "send", c, append([]string{"rate=30e6", "kind=data"}, paths...)...)
		wait()
		_, err := ended()
		require.NoError(t, err)
		same(t, paths, dirs[0])
		same(t, paths, dirs[1])
	})
	t.Run("its stream", func(t *testing.T) {
		c, paths := channel(t), made(t, 3_000_000)
		dirs, wait := receive(t, c, 2, 0.05, norm.ReceiverConfig{}, 1)
		ended := run(t, "send", c, append([]string{"rate=30e6", "kind=stream"}, paths...)...)
		wait()
		_, err := ended()
		require.NoError(t, err)
		same(t, paths, dirs[0])
		same(t, paths, dirs[1])
	})
	t.Run("our stream", func(t *testing.T) {
		c, paths := channel(t), made(t, 3_000_000)
		dir := t.TempDir()
		theirs := run(t, "receive", c, "id=9", "loss=5", dir)
		dirs, wait := receive(t, c, 1, 0.05, norm.ReceiverConfig{}, 1)
		f, err := os.Open(paths[0])
		require.NoError(t, err)
		defer f.Close()
		_, err = wire.SendStream(t.Context(), c, norm.SenderConfig{Rate: 30e6, MaxBlock: 64, Points: fec.ZeroFirst}, "stream", f, nil, nil)
		require.NoError(t, err)
		wait()
		_, err = theirs()
		require.NoError(t, err)
		assert.Equal(t, digest(t, paths[0]), digest(t, filepath.Join(dir, "stream")), "theirs")
		assert.Equal(t, digest(t, paths[0]), digest(t, filepath.Join(dirs[0], "stream")), "ours")
	})
}

func TestAcknowledgementsBothWays(t *testing.T) {
	t.Run("ours", func(t *testing.T) {
		c, paths := channel(t), made(t, 500_000)
		_, wait := receive(t, c, 1, 0.02, norm.ReceiverConfig{Node: 21}, 2)
		ended := run(t, "send", c, append([]string{"rate=30e6", "acks=21,22"}, paths...)...)
		said, err := ended()
		require.NoError(t, err)
		assert.Contains(t, said, "ack 21 yes")
		assert.Contains(t, said, "ack 22 no", "there is no 22")
		more := run(t, "send", c, append([]string{"rate=30e6", "id=2"}, made(t, 10, 10)[1:]...)...)
		wait()
		_, err = more()
		require.NoError(t, err)
	})
	t.Run("theirs", func(t *testing.T) {
		c, paths := channel(t), made(t, 500_000)
		dir := t.TempDir()
		theirs := run(t, "receive", c, "id=21", "loss=2", dir)
		out, err := wire.Dial(c)
		require.NoError(t, err)
		defer out.Close()
		in, err := wire.Listen(c)
		require.NoError(t, err)
		defer in.Close()
		content, err := os.ReadFile(paths[0])
		require.NoError(t, err)
		now := time.Now()
		s, err := norm.NewSender(norm.SenderConfig{Node: 1, Rate: 30e6, SymbolSize: 1400, MaxBlock: 64, Points: fec.ZeroFirst}, now)
		require.NoError(t, err)
		_, err = s.Enqueue(now, norm.Object{Kind: norm.File, Size: int64(len(content)), Info: []byte("file-0"), Content: bytes.NewReader(content)})
		require.NoError(t, err)
		s.Watermark(now, []norm.NodeID{21, 22})
		var said []string
		require.NoError(t, wire.Transmit(t.Context(), out, s, wire.Source{Group: in, On: func(e norm.SenderEvent) error {
			switch e.Kind {
			case norm.Acknowledged:
				said = append(said, fmt.Sprint(e.Node, " yes"))
			case norm.Unheard:
				said = append(said, fmt.Sprint(e.Node, " no"))
			case norm.Flushed:
				return wire.ErrDone
			}
			return nil
		}}))
		assert.Equal(t, "21 yes, 22 no", strings.Join(said, ", "))
		_, err = theirs()
		require.NoError(t, err)
		same(t, paths, dir)
	})
}

// Congestion control ends well with a peer of either kind; how the rates behave is
// tested in virtual time.
func TestCongestionControlBothWays(t *testing.T) {
	t.Run("theirs", func(t *testing.T) {
		c, paths := channel(t), made(t, 1_000_000)
		dirs, wait := receive(t, c, 1, 0.01, norm.ReceiverConfig{}, 1)
		ended := run(t, "send", c, append([]string{"rate=10e6", "cc=1"}, paths...)...)
		wait()
		_, err := ended()
		require.NoError(t, err)
		same(t, paths, dirs[0])
	})
	t.Run("ours", func(t *testing.T) {
		c, paths := channel(t), made(t, 1_000_000)
		dir := t.TempDir()
		theirs := run(t, "receive", c, "id=9", "loss=1", dir)
		_, err := wire.SendFiles(t.Context(), c, norm.SenderConfig{
			Rate: 5e6, SymbolSize: 1400, MaxBlock: 64, Points: fec.ZeroFirst, Congestion: &norm.Congestion{Floor: 5e6, Ceiling: 100e6}}, paths, nil, nil)
		require.NoError(t, err)
		_, err = theirs()
		require.NoError(t, err)
		same(t, paths, dir)
	})
}
