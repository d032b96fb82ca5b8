-- +goose Up
ALTER TABLE deliveries ADD COLUMN payloads TEXT NOT NULL DEFAULT '[]'; -- JSON: what its stream carries beside the image
