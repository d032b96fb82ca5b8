package windows_test

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hive"
	"jugate/core/windows"
)

// database is one file of the settings: values by key and name.
func database(t *testing.T, values map[string]map[string]hive.Value) *fstest.MapFile {
	h, err := hive.New("ROOT")
	require.NoError(t, err)
	for path, all := range values {
		k, err := h.Make(path)
		require.NoError(t, err)
		for name, v := range all {
			require.NoError(t, k.Set(name, v))
		}
	}
	b, err := h.Bytes()
	require.NoError(t, err)
	return &fstest.MapFile{Data: b}
}

func TestWhatAWindowsSaysOfItself(t *testing.T) {
	volume := fstest.MapFS{
		"WINDOWS/system32/config/software": database(t, map[string]map[string]hive.Value{
			`Microsoft\Windows NT\CurrentVersion`:                                      {"ProductName": hive.Of("Windows 10 Enterprise Evaluation"), "EditionID": hive.Of("EnterpriseEval"), "DisplayVersion": hive.Of("24H2"), "CurrentBuild": hive.Of("26100"), "InstallDate": hive.Number(1772445600)},
			`Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`: nil,
		}),
		"WINDOWS/system32/config/SYSTEM": database(t, map[string]map[string]hive.Value{
			"Select":                                {"Default": hive.Number(2), "Current": hive.Number(1)},
			`Setup\Status\SysprepStatus`:            {"GeneralizationState": hive.Number(7)},
			`ControlSet002\Control\Session Manager`: {"PendingFileRenameOperations": hive.OfAll(`\??\C:\old`)},
			`ControlSet001\Control\Session Manager`: {},
		}),
	}
	s, err := windows.Look(volume)
	require.NoError(t, err)
	assert.Equal(t, "Windows 11 Enterprise Evaluation 24H2 (build 26100)", s.Name())
	assert.True(t, s.Evaluation())
	assert.Equal(t, "2026-03-02", s.Installed.Format(time.DateOnly))
	assert.Equal(t, "2026-05-31", s.EvaluationEnds().Format(time.DateOnly))
	server := windows.System{Edition: "ServerStandardEval", Installed: s.Installed}
	assert.Equal(t, "2026-08-29", server.EvaluationEnds().Format(time.DateOnly))
	assert.Zero(t, (&windows.System{Edition: "EnterpriseEval"}).EvaluationEnds())
	assert.Zero(t, (&windows.System{Edition: "Enterprise", Installed: s.Installed}).EvaluationEnds())
	assert.EqualValues(t, windows.Generalised, s.Prepared)
	assert.Equal(t, "ControlSet002", s.ControlSet)
	assert.Equal(t, []string{`SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`, `SYSTEM\ControlSet002\Control\Session Manager\PendingFileRenameOperations`}, s.Pending)
	assert.Empty(t, s.Unclean)

	volume["WINDOWS/system32/config/software"] = &fstest.MapFile{Data: []byte("regf, but no more")}
	s, err = windows.Look(volume)
	assert.ErrorIs(t, err, hive.ErrFormat)
	assert.EqualValues(t, windows.Generalised, s.Prepared, "the other file was read")
	assert.Equal(t, "Windows", s.Name())

	_, err = windows.Look(fstest.MapFS{"etc/passwd": {}})
	assert.ErrorIs(t, err, windows.ErrNone)
	s, err = windows.Look(fstest.MapFS{"Windows/System32/config/x": {}})
	require.NoError(t, err)
	assert.Equal(t, &windows.System{}, s)
}
