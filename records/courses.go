package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/klauspost/compress/zstd"
)

var (
	courseWriter, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	courseReader, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(courseAtMost))
)

// courseAtMost bounds a course, in bytes.
const courseAtMost = 16 << 20

// PutCourse keeps what a delivery did over time.
func (db *DB) PutCourse(ctx context.Context, delivery int64, course []byte) error {
	_, err := db.exec(ctx, `INSERT INTO courses (delivery_id, content) VALUES (?, ?) ON CONFLICT DO UPDATE SET content = excluded.content`, delivery, courseWriter.EncodeAll(course, nil))
	return err
}

// Course is what a delivery did over time; nothing if nobody has looked.
func (db *DB) Course(ctx context.Context, delivery int64) ([]byte, error) {
	var packed []byte
	err := db.read.GetContext(ctx, &packed, `SELECT content FROM courses WHERE delivery_id = ?`, delivery)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	course, err := courseReader.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("the course of delivery %d in the records cannot be read: %w", delivery, err)
	}
	return course, nil
}
