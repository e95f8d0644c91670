package project

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"

	"excavate/core/format"
	"excavate/internal/store"
)

// Kind is what kind of mistake an error is, in the terms of the job; whoever
// answers requests decides what to make of it.
type Kind int

const (
	Invalid     Kind = iota // what is asked for makes no sense
	Forbidden               // it is not allowed here
	NotFound                // there is no such thing
	Conflict                // it does not go with what there is, or with what somebody else did meanwhile
	TooLarge                // it goes beyond a limit
	Unusable                // what it is about is there and cannot be used for this
	Unreachable             // something outside does not answer, or refuses
	Busy                    // it can be asked again later
	Full                    // there is no room on the disk
)

// Error is a mistake in what was asked for, with what to do about it.
type Error struct {
	Kind Kind
	Msg  string
}

func (e *Error) Error() string { return e.Msg }

func errorf(k Kind, f string, a ...any) error { return &Error{k, fmt.Sprintf(f, a...)} }

// KindOf is the kind of an error, if it has one.
func KindOf(err error) (k Kind, ok bool) {
	var e *Error
	if ok = errors.As(err, &e); ok {
		k = e.Kind
	}
	return k, ok
}

// Unreadable says that a file is at fault, where reading one failed; mistakes
// of the request, of the database and of the disk stay what they are.
func Unreadable(err error) error {
	_, kind := KindOf(err)
	ended := errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
	if err == nil || kind || errors.As(err, new(*fs.PathError)) || store.Transient(err) || ended {
		return err
	}
	return &unreadable{err}
}

// unreadable keeps the error within, which may name a place.
type unreadable struct{ error }

func (e *unreadable) Unwrap() error { return e.error }

// IsUnreadable tells whether a file is at fault.
func IsUnreadable(err error) bool { return errors.As(err, new(*unreadable)) }

// Known turns "no rows" into an error that names what is not there.
func Known[T any](v T, err error, what string, id int64) (T, error) {
	if errors.Is(err, sql.ErrNoRows) {
		return v, errorf(NotFound, "there is no %s %d", what, id)
	}
	return v, err
}

// Failure is an error as the interface shows it.
type Failure struct {
	Message string `json:"message"`
	At      string `json:"at,omitempty"`
}

// NewFailure states an error with the most exact place that it names.
func NewFailure(err error) Failure {
	return Failure{Message: err.Error(), At: format.Place(err)}
}
