package rfb

import (
	"encoding/binary"
	"fmt"
	"image"
	"io"
)

// Picture asks the server on rw for its whole screen, once. The caller ends rw
// to give up.
func Picture(rw io.ReadWriter) (*image.RGBA, error) {
	w, h, err := hello(rw)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	b := []byte{msgSetPixelFormat, 0, 0, 0}
	b, _ = binary.Append(b, be, native)
	b = append(b, msgSetEncodings, 0, 0, 1, 0, 0, 0, 0)
	b = append(b, msgUpdateRequest, 0, 0, 0, 0, 0)
	b = be.AppendUint16(b, uint16(w))
	b = be.AppendUint16(b, uint16(h))
	if _, err := rw.Write(b); err != nil {
		return nil, err
	}
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	var m struct {
		Kind, _ uint8
		N       uint16
	}
	if err := binary.Read(rw, be, &m); err != nil {
		return nil, err
	}
	if m.Kind != 0 {
		return nil, fmt.Errorf("%w: message %d where a picture was awaited", ErrProtocol, m.Kind)
	}
	for range m.N {
		if err := rectangle(rw, img); err != nil {
			return nil, err
		}
	}
	return img, nil
}

func hello(rw io.ReadWriter) (w, h int, err error) {
	var version [12]byte
	if _, err := io.ReadFull(rw, version[:]); err != nil {
		return 0, 0, err
	}
	if string(version[:4]) != "RFB " || string(version[4:]) < "003.008\n" {
		return 0, 0, fmt.Errorf("%w: version %q", ErrProtocol, version)
	}
	if _, err := io.WriteString(rw, "RFB 003.008\n"); err != nil {
		return 0, 0, err
	}
	var n [1]byte
	if _, err := io.ReadFull(rw, n[:]); err != nil {
		return 0, 0, err
	}
	types := make([]byte, n[0])
	if _, err := io.ReadFull(rw, types); err != nil {
		return 0, 0, err
	}
	if _, err := rw.Write([]byte{1}); err != nil {
		return 0, 0, err
	}
	var result uint32
	if err := binary.Read(rw, binary.BigEndian, &result); err != nil {
		return 0, 0, err
	}
	if result != 0 {
		return 0, 0, fmt.Errorf("%w: the server refused", ErrProtocol)
	}
	if _, err := rw.Write([]byte{1}); err != nil {
		return 0, 0, err
	}
	var init struct {
		W, H   uint16
		Format pixelFormat
		Name   uint32
	}
	if err := binary.Read(rw, binary.BigEndian, &init); err != nil {
		return 0, 0, err
	}
	if init.W > maxSide || init.H > maxSide || int(init.W)*int(init.H) > maxPixels || init.Name > 4096 {
		return 0, 0, fmt.Errorf("%w: a screen of %d x %d", ErrProtocol, init.W, init.H)
	}
	_, err = io.CopyN(io.Discard, rw, int64(init.Name))
	return int(init.W), int(init.H), err
}

// rectangle reads one raw rectangle into img.
func rectangle(r io.Reader, img *image.RGBA) error {
	var m struct {
		X, Y, W, H uint16
		Encoding   int32
	}
	if err := binary.Read(r, binary.BigEndian, &m); err != nil {
		return err
	}
	rect := image.Rect(int(m.X), int(m.Y), int(m.X)+int(m.W), int(m.Y)+int(m.H))
	if b := img.Bounds(); m.Encoding != 0 || rect.Max.X > b.Max.X || rect.Max.Y > b.Max.Y { // rect.In says yes to any empty one
		return fmt.Errorf("%w: a rectangle %v in encoding %d", ErrProtocol, rect, m.Encoding)
	}
	if rect.Empty() {
		return nil
	}
	row := make([]byte, 4*int(m.W))
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		if _, err := io.ReadFull(r, row); err != nil {
			return err
		}
		out := img.Pix[img.PixOffset(rect.Min.X, y):]
		for x := 0; x < len(row); x += 4 {
			out[x], out[x+1], out[x+2], out[x+3] = row[x+2], row[x+1], row[x], 255
		}
	}
	return nil
}
