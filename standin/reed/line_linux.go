package reed

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// Line is a serial line: a pseudo-terminal (pty(7)).
type Line struct {
	*os.File        // the board's end
	Path     string // of the other end
	other    *os.File
}

// OpenLine opens a serial line, without echo and any change of what goes over it.
func OpenLine() (*Line, error) {
	own, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		return nil, fmt.Errorf("open a pseudo-terminal: %w", err)
	}
	fd := int(own.Fd())
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		own.Close()
		return nil, fmt.Errorf("unlock the pseudo-terminal: %w", err)
	}
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		own.Close()
		return nil, fmt.Errorf("find the pseudo-terminal: %w", err)
	}
	path := fmt.Sprintf("/dev/pts/%d", n)
	other, err := os.OpenFile(path, os.O_RDWR|unix.O_NOCTTY, 0) // stays open, so that nobody who leaves ends the line
	if err != nil {
		own.Close()
		return nil, fmt.Errorf("open the other end: %w", err)
	}
	if err := raw(int(other.Fd())); err != nil {
		own.Close()
		other.Close()
		return nil, err
	}
	return &Line{File: own, Path: path, other: other}, nil
}

// raw is cfmakeraw(3).
func raw(fd int) error {
	t, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return fmt.Errorf("read how the line is set: %w", err)
	}
	t.Iflag &^= unix.IGNBRK | unix.BRKINT | unix.PARMRK | unix.ISTRIP | unix.INLCR | unix.IGNCR | unix.ICRNL | unix.IXON
	t.Oflag &^= unix.OPOST
	t.Lflag &^= unix.ECHO | unix.ECHONL | unix.ICANON | unix.ISIG | unix.IEXTEN
	t.Cflag = t.Cflag&^(unix.CSIZE|unix.PARENB) | unix.CS8
	if err := unix.IoctlSetTermios(fd, unix.TCSETS, t); err != nil {
		return fmt.Errorf("set the line: %w", err)
	}
	return nil
}

// Close ends the line.
func (l *Line) Close() error {
	l.other.Close()
	return l.File.Close()
}
