package api

import "time"

// Store is where slabs of versions lie: the data folder, or an object store elsewhere.
type Store struct {
	Name     string    `json:"store" example:"big"`
	Place    string    `json:"place" doc:"A URL, or a folder" example:"https://objects.fennholt.example/jugate"`
	Region   string    `json:"region,omitempty"`
	Key      string    `json:"key_id,omitempty" doc:"With whose key it is reached; the secret is not told"`
	Added    time.Time `json:"added,omitzero"`
	InUse    bool      `json:"in_use" doc:"New versions go there"`
	State    string    `json:"state" enum:"ready,away" doc:"Away while it does not answer"`
	Trouble  string    `json:"trouble,omitempty" doc:"What went wrong the last time"`
	Versions int       `json:"version_count" doc:"How many versions are there"`
	Moving   int       `json:"moving_count" doc:"How many are on their way there"`
	Moved    int       `json:"slabs_moved" doc:"Of the version that is being moved there"`
	ToMove   int       `json:"slabs_to_move"`
	Packs    int       `json:"pack_count" doc:"Objects that slabs lie in"`
	Bytes    int64     `json:"bytes_held"`
	Unneeded int64     `json:"bytes_unneeded" doc:"That a prune gives up"`
	Cached   int64     `json:"bytes_cached,omitempty" doc:"Of the folder: slabs that are elsewhere, too, as they were counted last"`
	MayCache int64     `json:"cache_bound,omitempty" doc:"Of the folder: how many bytes of slabs that are elsewhere may stay"`
}

// NewStore is an object store that is to be used.
type NewStore struct {
	Name   string `json:"store" pattern:"^[a-z0-9][a-z0-9-]*$" minLength:"1" maxLength:"63" example:"big"`
	Place  string `json:"place" doc:"https://HOST/BUCKET or https://HOST/BUCKET/PREFIX of a store with an S3 interface, or a folder that is there, as another machine's" minLength:"1" maxLength:"500" example:"https://objects.fennholt.example/jugate"`
	Region string `json:"region,omitempty" maxLength:"50" example:"us-east-1"`
	Key    string `json:"key_id,omitempty" maxLength:"200" example:"jugate"`
	Secret string `json:"key_secret,omitempty" doc:"Kept sealed, and not told again" maxLength:"500" example:"not-a-real-secret"`
}

// StoreUse says where new versions go; what is left out stays.
type StoreUse struct {
	Store *string `json:"store,omitempty" doc:"By its name; folder for the data folder" maxLength:"63" example:"big"`
	Cache *int64  `json:"cache_bound,omitempty" doc:"How many bytes the data folder may have of slabs that are elsewhere" minimum:"0" maximum:"1000000000000000" example:"107374182400"`
}

// StoreMove has versions be moved to a store.
type StoreMove struct {
	Version string `json:"which,omitempty" doc:"NAME@VERSION, or NAME for all versions of an image; without it, all of all images" maxLength:"80" example:"garden-desk@3"`
}

// StoreMoving tells which versions are moved.
type StoreMoving struct {
	Versions []string `json:"versions" nullable:"false"`
}

// NewStoreCheck says how a store is checked.
type NewStoreCheck struct {
	Read bool `json:"read_slabs,omitempty" doc:"Read every slab of the versions that are there, and check its digest"`
}

// StoreCheck tells how a store behaves.
type StoreCheck struct {
	Store  string   `json:"store"`
	Sound  bool     `json:"sound"`
	Faults []string `json:"what_is_wrong" nullable:"false"`
	Slabs  int      `json:"slabs" doc:"That were read"`
	Bytes  int64    `json:"bytes_read"`
}

// StoresChanged says that a store has come or gone, or that a version was moved.
type StoresChanged struct{}

// Standby tells of the copy of the service from which another machine can become it.
type Standby struct {
	Store   string     `json:"store" doc:"None is kept while it is empty"`
	Machine string     `json:"machine,omitempty" doc:"Which machine is the service"`
	Term    int64      `json:"term,omitempty" doc:"How often a machine has become the service"`
	Serving bool       `json:"is_serving,omitempty" doc:"The store says that this one is"`
	Records *time.Time `json:"records_copied,omitempty" doc:"Until when all that was written is there"`
	Files   *time.Time `json:"files_copied,omitempty"`
	Slabs   *time.Time `json:"slabs_copied,omitempty"`
	Trouble string     `json:"trouble,omitempty"`
}

// StandbyUse says where a copy of the service is kept.
type StandbyUse struct {
	Store string `json:"store" doc:"Empty ends it" maxLength:"63" example:"big"`
}
