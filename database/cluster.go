package database

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/disk"
)

// Cluster is a PostgreSQL server of our own on loopback. It is started again
// when it ends without being stopped, on the same port.
type Cluster struct {
	URL string
	Dir string // where its data is

	launch   func() (*process, error) // starts the server; it may not take connections yet
	stopping chan struct{}
	ended    chan struct{} // closed when it was stopped, and has ended
	mu       sync.Mutex
	running  *process
	trouble  ClusterTrouble
}

// ClusterTrouble is that the server is not there.
type ClusterTrouble struct {
	Since    time.Time // zero: it is there
	Reason   string    // the last words of the server
	Restarts int       // since the start
}

// process is one run of the server.
type process struct {
	cmd  *exec.Cmd
	log  *tail
	done chan struct{} // closed when it has ended
}

// StartCluster starts a server with its data below dir, making the cluster at
// first. Started by root, it runs as the user postgres; where that user cannot
// enter dir, the data is kept below /var/lib/lucid-orchard. It ends with Stop, or
// when this process ends in whatever way. Scratch clusters give up durability
// for speed: for tests.
func StartCluster(ctx context.Context, dir string, scratch bool) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	who, err := owner()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if who != nil {
		if !reachable(dir) {
			// A checkout in a home folder that only its owner may enter: the cluster
			// goes where the system keeps such data, one for each folder asked for.
			sum := sha256.Sum256([]byte(dir))
			dir = filepath.Join("/var/lib/lucid-orchard", hex.EncodeToString(sum[:6]))
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return nil, err
			}
		}
		if err := os.Chown(dir, int(who.Uid), int(who.Gid)); err != nil {
			return nil, err
		}
	}
	data, secret := filepath.Join(dir, "pg"), filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, bin, data, secret, who); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(secret)
	if err != nil {
		return nil, fmt.Errorf("the cluster in %s has lost its password file: %w", dir, err)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	c := &Cluster{
		URL: (&url.URL{Scheme: "postgres", User: url.UserPassword("orchard", string(password)),
			Host: fmt.Sprintf("127.0.0.1:%d", port), Path: "/postgres", RawQuery: "sslmode=disable"}).String(),
		Dir:      dir,
		launch:   func() (*process, error) { return launch(bin, dir, port, who, scratch) },
		stopping: make(chan struct{}),
		ended:    make(chan struct{}),
	}
	// The server of a program that was killed may still be ending.
	for patience := time.Now().Add(30 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		err := c.start(ctx)
		if err == nil {
			break
		}
		again := strings.Contains(err.Error(), `lock file "postmaster.pid" already exists`) ||
			strings.Contains(err.Error(), "shared memory block")
		if strings.Contains(err.Error(), "No space left on device") && disk.Release(dir) == nil {
			again = true // with the room that was kept for this
		}
		if !again || time.Now().After(patience) || ctx.Err() != nil {
			return nil, err
		}
	}
	go c.supervise()
	return c, nil
}

// start launches the server and waits until it takes connections.
func (c *Cluster) start(ctx context.Context) error {
	p, err := c.launch()
	if err != nil {
		return err
	}
	if err := p.await(ctx, c.URL); err != nil {
		p.stop()
		return err
	}
	c.mu.Lock()
	c.running = p
	c.mu.Unlock()
	return nil
}

// supervise starts the server again when it ends, until Stop.
func (c *Cluster) supervise() {
	defer close(c.ended)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		<-c.stopping
		cancel()
	}()
	for {
		c.mu.Lock()
		p := c.running
		c.mu.Unlock()
		select {
		case <-p.done:
		case <-c.stopping:
			p.stop()
			return
		}
		select {
		case <-c.stopping:
			return
		default:
		}
		c.fail(p.log.String())
		pause := 200 * time.Millisecond
		for {
			err := c.start(ctx)
			if err == nil {
				break
			}
			c.fail(err.Error())
			if strings.Contains(err.Error(), "No space left on device") {
				_ = disk.Release(c.Dir)
			}
			select {
			case <-time.After(pause):
			case <-c.stopping:
				return
			}
			pause = min(5*time.Second, 2*pause)
		}
		c.mu.Lock()
		c.trouble = ClusterTrouble{Restarts: c.trouble.Restarts + 1}
		c.mu.Unlock()
	}
}

func (c *Cluster) fail(reason string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.trouble.Reason = reason
	if c.trouble.Since.IsZero() {
		c.trouble.Since = time.Now()
	}
}

// Trouble reports whether the server is away, and how often it was started again.
func (c *Cluster) Trouble() ClusterTrouble {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.trouble
}

// Process returns the id of the server's first process; 0 while it is away.
func (c *Cluster) Process() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-c.running.done:
		return 0
	default:
		return c.running.cmd.Process.Pid
	}
}

// Stop ends the server cleanly.
func (c *Cluster) Stop() {
	close(c.stopping)
	<-c.ended
}

// launch starts the server of a cluster.
func launch(bin, dir string, port int, who *syscall.Credential, scratch bool) (*process, error) {
	args := []string{"-D", filepath.Join(dir, "pg"), "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=", "-c", "max_connections=60", "-c", "timezone=UTC", "-c", "jit=off",
		// Rows come by the million and are read whole; there is no second server that follows.
		"-c", "wal_level=minimal", "-c", "max_wal_senders=0", "-c", "shared_buffers=256MB", "-c",
		"maintenance_work_mem=128MB"}
	if scratch {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	p := &process{log: &tail{}, done: make(chan struct{})}
	p.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	p.cmd.Dir = dir
	p.cmd.WaitDelay = 2 * time.Second // a process of a killed server may hold the pipe
	p.cmd.Stdout, p.cmd.Stderr = p.log, p.log
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who, Pdeathsig: syscall.SIGINT, Setpgid: true}
	started := make(chan error)
	go func() {
		// The signal comes when the thread that started the server ends, so the
		// thread is kept for as long as the server runs.
		runtime.LockOSThread()
		err := p.cmd.Start()
		started <- err
		if err == nil {
			_ = p.cmd.Wait()
			close(p.done)
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("PostgreSQL does not start: %w", err)
	}
	return p, nil
}

// await waits until the server takes connections.
func (p *process) await(ctx context.Context, url string) error {
	deadline := time.After(5 * time.Minute) // after a kill it may have much to recover
	for {
		conn, err := pgx.Connect(ctx, url)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-p.done:
			return fmt.Errorf("PostgreSQL ended while starting: %s", p.log)
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline:
			return fmt.Errorf("PostgreSQL takes no connections after five minutes: %w: %s", err, p.log)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (p *process) stop() {
	_ = p.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-p.done:
	case <-time.After(20 * time.Second):
		_ = p.cmd.Process.Signal(syscall.SIGQUIT)
		<-p.done
	}
}

func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	best, version := "", 0
	for _, f := range found {
		dir := filepath.Dir(f)
		if v, err := strconv.Atoi(filepath.Base(filepath.Dir(dir))); err == nil && v > version {
			best, version = dir, v
		}
	}
	if version < 15 {
		return "", errors.New("found no PostgreSQL 15 or later under /usr/lib/postgresql; install Debian's package " +
			"postgresql, or give --database-url")
	}
	return best, nil
}

// owner returns the user to run PostgreSQL as, nil for the one we are.
func owner() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// reachable reports whether other users can enter every folder above dir.
func reachable(dir string) bool {
	for d := filepath.Dir(dir); ; d = filepath.Dir(d) {
		info, err := os.Stat(d)
		if err != nil || info.Mode().Perm()&1 == 0 {
			return false
		}
		if d == filepath.Dir(d) {
			return true
		}
	}
}

func initialise(ctx context.Context, bin, data, secret string, who *syscall.Credential) error {
	password := rand.Text()
	if err := os.WriteFile(secret, []byte(password), 0o600); err != nil {
		return err
	}
	if who != nil {
		if err := os.Chown(secret, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "orchard", "--pwfile", secret,
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C", "--no-instructions")
	cmd.Dir = filepath.Dir(data)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	if out, err := cmd.CombinedOutput(); err != nil {
		_ = os.RemoveAll(data)
		return fmt.Errorf("initdb: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// tail keeps the last lines that a program wrote.
type tail struct {
	mu   sync.Mutex
	text string
}

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.text += string(b); len(t.text) > 4000 {
		t.text = t.text[len(t.text)-4000:]
	}
	return len(b), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimSpace(t.text)
}

// CreateDatabase makes an empty database beside the one that is open: for
// tests that want one of their own.
func (d *DB) CreateDatabase(ctx context.Context, name string) error {
	_, err := d.SQL.ExecContext(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize())
	return err
}
