package api

import "time"

// LogKeys are the public keys of a service, as texts of C2SP signed-note and tlog-cosignature.
type LogKeys struct {
	Log     string `json:"log_key" doc:"Its heads are checked with this"`
	Witness string `json:"witness_key" doc:"What it countersigns for others is checked with this"`
}

// LogHead is a signed head of the tree of records.
type LogHead struct {
	Head   string    `json:"head" doc:"The signed head (C2SP tlog-checkpoint), with the signatures of witnesses"`
	Leaves int64     `json:"leaf_count" doc:"How many receipts, arrivals and lines of the logbook it covers"`
	At     time.Time `json:"at"`
	Key    string    `json:"log_key" doc:"What it is checked with"`
}

// LogGrowth proves that the tree of now has grown out of an earlier one.
type LogGrowth struct {
	Head string   `json:"head" doc:"The signed head of now"`
	Key  string   `json:"log_key" doc:"What it is checked with"`
	Path [][]byte `json:"proof_hashes" doc:"Hashes of the proof (RFC 6962, section 2.1.2)"`
}

// Proof proves a record.
type Proof struct {
	Proof string `json:"proof" doc:"What can be checked offline (C2SP tlog-proof), with the record as its extra data"`
	Key   string `json:"log_key" doc:"What it is checked with"`
}

// Exported is a line of an export: the head that everything is proven by first, and then a receipt with its proof
// each.
type Exported struct {
	Head   string   `json:"head,omitempty"`
	Key    string   `json:"log_key,omitempty"`
	Leaf   string   `json:"leaf,omitempty" doc:"The receipt as JSON, byte by byte as it was proven"`
	Number int64    `json:"leaf_number"`
	Path   [][]byte `json:"proof_hashes,omitempty" doc:"Hashes of the proof (RFC 6962, section 2.1.1)"`
}

// LogCheck is the result of going through all records.
type LogCheck struct {
	Receipts  int    `json:"receipt_count"`
	Arrivals  int    `json:"arrival_count"`
	Lines     int    `json:"line_count"`
	Forgotten int    `json:"forgotten_lines" doc:"Lines of the logbook whose keeping has ended"`
	Leaves    int64  `json:"leaf_count"`
	Sound     bool   `json:"sound"`
	Detail    string `json:"detail" doc:"What was found first"`
}

// Restoring says that the records were restored from a backup.
type Restoring struct {
	Why string `json:"why" minLength:"3" maxLength:"500" doc:"Why" example:"the disk broke; the backup of Sunday night"`
}

// Witness is who countersigns the heads of this service.
type Witness struct {
	Name    string     `json:"name"`
	URL     string     `json:"url"`
	Key     string     `json:"witness_key"`
	Leaves  int64      `json:"leaf_count" doc:"Of the last head that it has countersigned"`
	At      *time.Time `json:"at,omitempty" doc:"When"`
	Problem string     `json:"problem" doc:"Why it has not countersigned"`
}

// NewWitness enters one.
type NewWitness struct {
	Name      string `json:"name" minLength:"1" maxLength:"60" doc:"How it is called here" example:"alpine-house"`
	URL       string `json:"url" maxLength:"500" doc:"Where it answers (C2SP tlog-witness): of another Jugate https://HOST:PORT/witness/v1" example:"https://203.0.113.5:7460/witness/v1"`
	Key       string `json:"witness_key" maxLength:"300" doc:"Its public key, as jugate witness key shows it there" example:"jugate-witness-0123456789ab+5f3c1a20+BA=="`
	Authority string `json:"authority,omitempty" maxLength:"20000" doc:"Certificate of its authority, PEM; by default those that this machine trusts" example:"-----BEGIN CERTIFICATE-----"`
}

// Watched is a service whose heads are countersigned here.
type Watched struct {
	Name     string     `json:"name"`
	Key      string     `json:"log_key"`
	Leaves   int64      `json:"leaf_count" doc:"Of the last head that was seen"`
	At       *time.Time `json:"at,omitempty" doc:"When"`
	Restored *Restored  `json:"restored,omitempty" doc:"What it says of a restore, which has to be confirmed"`
}

// Restored is what a watched service says of a restore.
type Restored struct {
	Who        string `json:"who"`
	Why        string `json:"why"`
	LostLeaves int64  `json:"lost_leaf_count" doc:"Leaves of the head that was seen last"`
	Leaves     int64  `json:"leaf_count" doc:"Leaves that it goes on with"`
}

// NewWatched begins to countersign the heads of a service.
type NewWatched struct {
	Name string `json:"name" minLength:"1" maxLength:"60" doc:"How it is called here" example:"garden"`
	Key  string `json:"log_key" maxLength:"300" doc:"Its public key, as jugate witness key shows it there" example:"jugate-0123456789ab+5f3c1a20+AQ=="`
}
