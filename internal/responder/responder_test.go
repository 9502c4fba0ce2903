package responder_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/farend"
	"passepartout/internal/responder"
)

// broken is a port of which every read fails, as one that was taken away does.
type broken struct{ net.PacketConn }

func (broken) ReadFrom([]byte) (int, net.Addr, error) { return 0, nil, assert.AnError }

func TestServe(t *testing.T) {
	conn, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	ended, heard := make(chan error, 1), make(chan responder.Arrival, 4)
	go func() { ended <- responder.Serve(conn, func(a responder.Arrival) { heard <- a }) }()
	asker, err := net.Dial("udp4", conn.LocalAddr().String())
	require.NoError(t, err)
	defer asker.Close()
	_, err = asker.Write([]byte("nonsense"))
	require.NoError(t, err)
	run := farend.Token([8]byte{7})
	_, err = asker.Write(farend.Question(run, false))
	require.NoError(t, err)
	require.NoError(t, asker.SetReadDeadline(time.Now().Add(5*time.Second)))
	buf := make([]byte, 1<<10)
	n, err := asker.Read(buf)
	require.NoError(t, err)
	m, ok := farend.Read(buf[:n])
	require.True(t, ok)
	assert.Equal(t, 1, m.IPv4, "nonsense is neither counted nor answered")
	a := <-heard
	assert.Equal(t, asker.LocalAddr().String(), a.From.String())
	assert.Equal(t, run, a.Run.Token)
	conn.Close()
	assert.NoError(t, <-ended, "closed is the usual end")
	assert.ErrorIs(t, responder.Serve(broken{}, nil), assert.AnError, "a port that is gone is not asked for ever")
}

// Who asks without end gets so many answers, and then few: nobody can be flooded with answers, whoever he is.
func TestServeKeepsItsRate(t *testing.T) {
	conn, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer conn.Close()
	go func() { _ = responder.Serve(conn, nil) }()
	asker, err := net.Dial("udp4", conn.LocalAddr().String())
	require.NoError(t, err)
	defer asker.Close()
	question := farend.Question(farend.Token([8]byte{7}), false)
	began := time.Now()
	for range 2000 {
		_, _ = asker.Write(question)
	}
	answers, buf := 0, make([]byte, 1<<10)
	for asker.SetReadDeadline(time.Now().Add(300*time.Millisecond)) == nil {
		if _, err := asker.Read(buf); err != nil {
			break
		}
		answers++
	}
	assert.Greater(t, answers, 10, "a run is answered")
	assert.LessOrEqual(t, answers, 60+20*int(time.Since(began)/time.Second+1), "a flood is not")
}
