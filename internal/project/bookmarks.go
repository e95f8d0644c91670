package project

import (
	"context"

	"excavate/internal/store/db"
)

// Bookmarks lists the places in an entry's bytes that have a note.
func (s *Sources) Bookmarks(ctx context.Context, entry int64) ([]db.ListBookmarksRow, error) {
	e, _, _, _, err := s.Entry(ctx, entry)
	if err != nil {
		return nil, err
	}
	return s.store.ListBookmarks(ctx, db.ListBookmarksParams{SourceID: e.SourceID, Slot: e.Slot})
}

// mostNote bounds a bookmark's note, in bytes.
const mostNote = 1000

// AddBookmark notes something at a place.
func (s *Sources) AddBookmark(ctx context.Context, entry, at, size int64, note string) error {
	e, _, _, _, err := s.Entry(ctx, entry)
	if err != nil {
		return err
	}
	if at < 0 || size < 1 || at > e.Size || size > e.Size-at || len(note) > mostNote {
		return errorf(
			Invalid,
			"a bookmark lies within the entry's %d bytes and has a note of at most %d letters",
			e.Size,
			mostNote,
		)
	}
	_, err = s.store.AddBookmark(
		ctx,
		db.AddBookmarkParams{SourceID: e.SourceID, Slot: e.Slot, Off: at, Size: size, Note: note},
	)
	return err
}

// DeleteBookmark forgets a note.
func (s *Sources) DeleteBookmark(ctx context.Context, entry, bookmark int64) error {
	e, _, _, _, err := s.Entry(ctx, entry)
	if err != nil {
		return err
	}
	n, err := s.store.DeleteBookmark(ctx, db.DeleteBookmarkParams{ID: bookmark, SourceID: e.SourceID, Slot: e.Slot})
	if err == nil && n == 0 {
		err = errorf(NotFound, "there is no bookmark %d of this entry", bookmark)
	}
	return err
}
