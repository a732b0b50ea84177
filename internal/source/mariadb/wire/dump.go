package wire

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// Dump says from where the binary log is sent.
type Dump struct {
	Server    uint32        // the number that we have among the server's replicas; no two may have the same
	GTID      string        // after these global transaction ids of MariaDB; used where File and Set are empty
	Set       *Set          // after this set of MySQL's; used where File is empty
	File      string        // from this file
	Offset    uint32        // and this place in it on; 4 is its beginning
	Heartbeat time.Duration // how often the server speaks when nothing happens
	ToTheEnd  bool          // at its end the log ends, instead of waiting for more; MySQL's servers alone do so
}

// Set is a set of transactions, as text and as MySQL's protocol writes it.
type Set struct {
	Text  string
	Bytes []byte
}

// String says from where on the log is sent.
func (d Dump) String() string {
	switch {
	case d.File != "":
		return fmt.Sprintf("from %s:%d on", d.File, d.Offset)
	case d.Set != nil:
		return "after " + d.Set.Text
	}
	return "after " + d.GTID
}

// Flags of a request for the log.
const (
	endsAtTheEnd = 1
	bySet        = 4
)

// ErrEnd says that the server has ended the binary log.
var ErrEnd = errors.New("the server has ended the binary log; it is shutting down")

// Follow asks for the binary log. From then on the connection gives events alone
// (mariadb.com/kb/en/com_binlog_dump; for MySQL
// dev.mysql.com/doc/dev/mysql-server/latest/page_protocol_replication.html).
func (c *Conn) Follow(ctx context.Context, d Dump) error {
	sets := []string{
		"SET @mariadb_slave_capability = 4", // we know global transaction ids and compressed events
		"SET @master_binlog_checksum = @@global.binlog_checksum, @source_binlog_checksum = @@global.binlog_checksum",
		fmt.Sprintf("SET @master_heartbeat_period = %d, @source_heartbeat_period = %[1]d", d.Heartbeat.Nanoseconds()),
	}
	if d.File == "" && d.Set == nil {
		sets = append(sets, "SET @slave_connect_state = '"+d.GTID+"'", "SET @slave_gtid_strict_mode = 0",
			"SET @slave_gtid_ignore_duplicates = 0")
	}
	for _, sql := range sets {
		if err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	flags := uint16(0)
	if d.ToTheEnd {
		flags = endsAtTheEnd
	} else if err := c.register(d.Server); err != nil {
		return err
	}
	if d.File == "" && d.Set != nil {
		content := binary.LittleEndian.AppendUint16(nil, flags|bySet)
		content = binary.LittleEndian.AppendUint32(content, d.Server)
		content = binary.LittleEndian.AppendUint32(content, 0) // of no file
		content = binary.LittleEndian.AppendUint64(content, 4)
		content = binary.LittleEndian.AppendUint32(content, uint32(len(d.Set.Bytes)))
		return c.command(comBinlogDumpSet, append(content, d.Set.Bytes...))
	}
	offset := d.Offset
	if d.File == "" {
		offset = 4
	}
	content := binary.LittleEndian.AppendUint32(nil, offset)
	content = binary.LittleEndian.AppendUint16(content, flags)
	content = binary.LittleEndian.AppendUint32(content, d.Server)
	return c.command(comBinlogDump, append(content, d.File...))
}

// register tells the server our number (mariadb.com/kb/en/com_register_slave).
func (c *Conn) register(server uint32) error {
	content := binary.LittleEndian.AppendUint32(nil, server)
	content = append(content, 0, 0, 0) // no host, user or password of our own
	content = binary.LittleEndian.AppendUint16(content, 0)
	content = binary.LittleEndian.AppendUint32(content, 0)
	content = binary.LittleEndian.AppendUint32(content, 0)
	if err := c.command(comRegisterSlave, content); err != nil {
		return err
	}
	packet, err := c.read()
	if err == nil && (len(packet) == 0 || packet[0] == isErr) {
		err = errorOf(packet)
	}
	return err
}

// patience is how long the rest of what has begun to come in may take.
const patience = time.Minute

// Await waits until something comes in, or a deadline passes, which is an
// os.ErrDeadlineExceeded and does no harm.
func (c *Conn) Await(deadline time.Time) error {
	if c.in.Buffered() > 0 {
		return nil
	}
	if err := c.net.SetReadDeadline(deadline); err != nil {
		return err
	}
	_, err := c.in.Peek(1)
	return errors.Join(err, c.net.SetReadDeadline(time.Now().Add(patience)))
}

// Event gives the next event of the binary log; it is valid until the next one.
func (c *Conn) Event() ([]byte, error) {
	packet, err := c.read()
	switch {
	case err != nil:
		return nil, err
	case len(packet) == 0:
		return nil, errShort
	case packet[0] == isErr:
		return nil, errorOf(packet)
	case packet[0] == isEOF:
		return nil, ErrEnd
	}
	return packet[1:], nil
}
