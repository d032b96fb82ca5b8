package api

import "time"

// Payload is a file or package that goes onto delivered systems.
type Payload struct {
	Name   string    `json:"payload" example:"scanner-tools_2.1_amd64.deb"`
	Digest string    `json:"digest" doc:"BLAKE3-256 of the content"`
	Size   int64     `json:"size_bytes"`
	Note   string    `json:"note"`
	Added  time.Time `json:"added"`
}

// ToPayload is a payload that an agent brings onto a system.
type ToPayload struct {
	Name   string `json:"name"`
	Digest string `json:"digest" doc:"BLAKE3-256; its content is at GET /payloads/DIGEST"`
	Size   int64  `json:"size"`
}
