package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"sync/atomic"

	sqlite3 "modernc.org/sqlite"
)

// preparing is SQLite's driver, whose connections keep what they prepared and use it again. GORM and database/sql
// prepare a statement anew each time that a transaction uses it (database/sql.Tx.StmtContext), which takes longer
// than most of the statements here; so GORM's own PrepareStmt is off.
const preparing = "sqlite, prepared once"

func init() {
	d := &sqlite3.Driver{}
	likenessIn(d)
	sql.Register(preparing, keeper{d})
}

// mostPrepared bounds the statements that one connection keeps, which wait to be used again.
const mostPrepared = 200

// preparations counts what SQLite prepared since the start.
var preparations atomic.Int64

type keeper struct{ driver.Driver }

// Open opens a connection.
func (k keeper) Open(name string) (driver.Conn, error) {
	c, err := k.Driver.Open(name)
	if err != nil {
		return nil, err
	}
	return &keepingConn{engine: c.(engine), free: map[string][]engineStmt{}}, nil
}

// engine is what a connection of the driver can do, and engineStmt what a statement can.
type engine interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

type engineStmt interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
}

// keepingConn is a connection, used by one goroutine at a time.
type keepingConn struct {
	engine
	free map[string][]engineStmt // by their SQL; those that are not in use
	kept int
}

// take gives a statement, prepared before or now.
func (c *keepingConn) take(ctx context.Context, query string) (engineStmt, error) {
	if free := c.free[query]; len(free) > 0 {
		c.free[query] = free[:len(free)-1]
		c.kept--
		return free[len(free)-1], nil
	}
	preparations.Add(1)
	s, err := c.engine.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return s.(engineStmt), nil
}

// give keeps a statement that is no longer in use, in the place of any other where there are many.
func (c *keepingConn) give(query string, s engineStmt) (err error) {
	if c.free == nil { // the connection is closed
		return s.Close()
	}
	for other, free := range c.free {
		if c.kept < mostPrepared {
			break
		}
		for _, one := range free {
			err = errors.Join(err, one.Close())
		}
		c.kept -= len(free)
		delete(c.free, other)
	}
	c.free[query] = append(c.free[query], s)
	c.kept++
	return err
}

// ExecContext carries out a statement.
func (c *keepingConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	s, err := c.take(ctx, query)
	if err != nil {
		return nil, err
	}
	r, err := s.ExecContext(ctx, args)
	if kept := c.give(query, s); err == nil {
		err = kept
	}
	return r, err
}

// QueryContext asks a question. Its statement is kept once its answer is closed.
func (c *keepingConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	s, err := c.take(ctx, query)
	if err != nil {
		return nil, err
	}
	r, err := s.QueryContext(ctx, args)
	if err != nil {
		_ = c.give(query, s)
		return nil, err
	}
	return &keptRows{engineRows: r.(engineRows), done: func() error { return c.give(query, s) }}, nil
}

// engineRows is what the driver's answers can do.
type engineRows interface {
	driver.Rows
	driver.RowsColumnTypeDatabaseTypeName
	driver.RowsColumnTypeLength
	driver.RowsColumnTypeNullable
	driver.RowsColumnTypePrecisionScale
	driver.RowsColumnTypeScanType
}

// keptRows is an answer whose statement is given back.
type keptRows struct {
	engineRows
	done func() error
}

// Close ends the answer.
func (r *keptRows) Close() error {
	err := r.engineRows.Close()
	if r.done == nil {
		return err
	}
	if kept := r.done(); err == nil {
		err = kept
	}
	r.done = nil
	return err
}

// Prepare prepares a statement, or takes one that was prepared before.
func (c *keepingConn) Prepare(query string) (driver.Stmt, error) {
	return c.PrepareContext(context.Background(), query)
}

// PrepareContext prepares a statement, or takes one that was prepared before.
func (c *keepingConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	s, err := c.take(ctx, query)
	if err != nil {
		return nil, err
	}
	return &keptStmt{engineStmt: s, conn: c, query: query}, nil
}

// Close closes the connection and all that it prepared.
func (c *keepingConn) Close() error {
	for _, free := range c.free {
		for _, s := range free {
			_ = s.Close() // it goes with the connection in any case
		}
	}
	c.free, c.kept = nil, 0
	return c.engine.Close()
}

// keptStmt is a statement that goes back to its connection when it is closed.
type keptStmt struct {
	engineStmt
	conn   *keepingConn
	query  string
	closed bool
}

// Close gives the statement back.
func (s *keptStmt) Close() error {
	if s.closed {
		return nil
	}
	s.closed = true
	return s.conn.give(s.query, s.engineStmt)
}
