package notify_test

import (
	"fmt"
	"net"
	"net/mail"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/notify"
)

// Mail goes over STARTTLS, or not at all unless it is set to do without; who may not have
// it is said.
func TestMailIsTakenByAServer(t *testing.T) {
	ca, pair := certificate(t, t.TempDir())
	secure, mails := mailServer(t, &pair)
	s := notify.Sender{Settings: notify.Settings{Kind: "mail", Address: secure, CA: ca,
		From: "orchard@saltmarsh.example",
		To:   []string{"duty@saltmarsh.example", "night@saltmarsh.example"}}, Host: "orchard-01", Reach: here}
	taken, err := send(t, &s, []notify.Message{message("a"), notify.Summary("s",
		[]notify.Message{message("b"), message("c")})})
	require.NoError(t, err)
	require.Equal(t, 2, taken)
	first, _ := strings.CutPrefix(mails()[0], "true\r\n")
	m, err := mail.ReadMessage(strings.NewReader(first))
	require.NoError(t, err, mails()[0])
	require.Equal(t, "<a@orchard-01>", m.Header.Get("Message-ID"))
	require.Equal(t, "duty@saltmarsh.example, night@saltmarsh.example", m.Header.Get("To"))
	require.Contains(t, mails()[1], "Subject: 2 matters")
	s.CA = ""
	_, err = send(t, &s, []notify.Message{message("x")})
	require.Error(t, err, "the certificate is not trusted")

	plain, mails := mailServer(t, nil)
	s.Address = plain
	_, err = send(t, &s, []notify.Message{message("y")})
	require.ErrorContains(t, err, "offers no encryption")
	s.Plain = true
	_, err = send(t, &s, []notify.Message{message("y")})
	require.NoError(t, err)
	require.Len(t, mails(), 1)
	s.To = []string{"nobody@saltmarsh.example"}
	_, err = send(t, &s, []notify.Message{message("z")})
	require.EqualError(t, err, "it refuses with the code 550", "what else a server says is nobody's to read")
	var refused *notify.RefusedError
	require.ErrorAs(t, err, &refused)
	strange, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer strange.Close()
	go func() {
		for {
			c, err := strange.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(c, "SSH-2.0-secret\r\n")
			c.Close()
		}
	}()
	s.Address = strange.Addr().String()
	_, err = send(t, &s, []notify.Message{message("z")})
	require.Error(t, err)
	require.NotContains(t, err.Error(), "SSH")
	s.Kind, s.Address, s.Secret = "webhook", "http://"+s.Address, "x"
	_, err = send(t, &s, []notify.Message{message("z")})
	require.EqualError(t, err, "the receiver does not speak HTTP")
}
