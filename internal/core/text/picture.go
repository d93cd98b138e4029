package text

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	_ "image/gif"  // is decoded
	_ "image/jpeg" // is decoded
	"io"
	"slices"

	"github.com/bep/imagemeta"
	_ "golang.org/x/image/bmp" // is decoded
	xdraw "golang.org/x/image/draw"
	"golang.org/x/image/tiff"
	_ "golang.org/x/image/webp" // is decoded

	"inktray.example/inktray/internal/core/codes"
	"inktray.example/inktray/internal/core/ocr"
)

// mostPixels bounds a picture that is decoded.
const mostPixels = 60_000_000

// Straighten writes a picture (JPEG, PNG, GIF, WebP, BMP) in grey, upright as its camera says, and with its lines
// straight, as PNG. A large one is made smaller. The error is an *Error where it is the file's.
func Straighten(w io.Writer, r io.ReadSeeker) (out Drawn, err error) {
	defer mended(&err)
	grey, err := decoded(r)
	if err != nil {
		return out, err
	}
	return inGrey(w, grey, true)
}

// mended makes the error of a library that broke down on a broken file.
func mended(err *error) {
	if p := recover(); p != nil {
		*err = problem("it is broken")
	}
}

// decoded is a picture in grey, upright as its camera says.
func decoded(r io.ReadSeeker) (*image.Gray, error) {
	size, format, err := image.DecodeConfig(r)
	if err != nil {
		return nil, problem("it is not a picture that is known here")
	}
	if err := fits(size); err != nil {
		return nil, err
	}
	turn := orientation(r, format)
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	picture, _, err := image.Decode(r)
	if err != nil {
		return nil, problem("it is broken (%v)", err)
	}
	return upright(smaller(ocr.Grey(picture)), turn), nil
}

func fits(size image.Config) error {
	if size.Width < 1 || size.Height < 1 || size.Width > mostPixels/size.Height {
		return problem("it has %d × %d pixels, which is more than Ink Tray reads", size.Width, size.Height)
	}
	return nil
}

func smaller(grey *image.Gray) *image.Gray {
	size := grey.Bounds()
	longer := max(size.Dx(), size.Dy())
	if longer <= mostDrawn {
		return grey
	}
	out := image.NewGray(image.Rect(0, 0, max(1, size.Dx()*mostDrawn/longer), max(1, size.Dy()*mostDrawn/longer)))
	xdraw.ApproxBiLinear.Scale(out, out.Bounds(), grey, size, xdraw.Src, nil)
	return out
}

// orientation says how a picture has to be turned, as its camera noted (Exif 2.32, tag 0x0112); 1 where it has not.
func orientation(r io.ReadSeeker, format string) int {
	known := map[string]imagemeta.ImageFormat{"jpeg": imagemeta.JPEG, "png": imagemeta.PNG, "webp": imagemeta.WebP}
	of, ok := known[format]
	if _, err := r.Seek(0, io.SeekStart); err != nil || !ok {
		return 1
	}
	turn := 1
	_, _ = imagemeta.Decode(imagemeta.Options{R: r, ImageFormat: of, Sources: imagemeta.EXIF,
		ShouldHandleTag: func(t imagemeta.TagInfo) bool { return t.Tag == "Orientation" && t.Namespace == "IFD0" },
		HandleTag: func(t imagemeta.TagInfo) error {
			if n, ok := t.Value.(uint16); ok && n >= 1 && n <= 8 {
				turn = int(n)
			}
			return imagemeta.ErrStopWalking
		}}) // a picture whose notes are broken is taken as it is
	return turn
}

// upright turns a picture as its orientation says.
func upright(p *image.Gray, turn int) *image.Gray {
	w, h := p.Bounds().Dx(), p.Bounds().Dy()
	out := image.NewGray(image.Rect(0, 0, w, h))
	if turn >= 5 {
		out = image.NewGray(image.Rect(0, 0, h, w))
	}
	from := p.Bounds().Min
	for y := range h {
		for x := range w {
			to := [2]int{x, y}
			switch turn {
			case 2:
				to = [2]int{w - 1 - x, y}
			case 3:
				to = [2]int{w - 1 - x, h - 1 - y}
			case 4:
				to = [2]int{x, h - 1 - y}
			case 5:
				to = [2]int{y, x}
			case 6:
				to = [2]int{h - 1 - y, x}
			case 7:
				to = [2]int{h - 1 - y, w - 1 - x}
			case 8:
				to = [2]int{y, w - 1 - x}
			default:
				return p
			}
			out.Pix[out.PixOffset(to[0], to[1])] = p.Pix[p.PixOffset(from.X+x, from.Y+y)]
		}
	}
	return out
}

// CodeRequest says in which file codes are looked for.
type CodeRequest struct {
	Reader string `json:"reader,omitempty"` // as in Request
	Pages  int    `json:"pages"`            // on how many at most
}

// mostCodes is how much the codes of a file may hold, in octets.
const mostCodes = 64 << 10

// codeDPI is how finely pages are drawn in which codes are looked for, in dots per inch.
const codeDPI = 200

// Codes reads the bar codes and QR codes on the pages of a PDF, or in a picture. left is how many pages nobody looked
// at. The error is an *Error where it is the file's.
func Codes(r io.ReaderAt, size int64, of CodeRequest) (all []codes.Code, left int, err error) {
	defer mended(&err)
	head := make([]byte, Head)
	n, err := r.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, 0, err
	}
	letters := 0
	add := func(page image.Image, number int) error {
		found, err := codes.Read(ocr.Grey(page))
		if err != nil {
			return problem("page %d: %v", number+1, err)
		}
		for _, c := range found {
			if letters += len(c.Text); letters > mostCodes {
				return problem("the codes in it hold more than %d KB, which is the limit", mostCodes>>10)
			}
			c.Page = number
			all = append(all, c)
		}
		return nil
	}
	whole := io.NewSectionReader(r, 0, size)
	switch head = head[:n]; {
	case PDF(head):
		p, d, pages, err := openPDF(r, size, of.Reader)
		if err != nil {
			return nil, 0, err
		}
		defer p.Close()
		for i := range min(pages, of.Pages) {
			if err := onPage(p, d, i, codeDPI, func(page image.Image) error { return add(page, i) }); err != nil {
				return nil, 0, err
			}
		}
		return all, max(0, pages-of.Pages), nil
	case TIFF(head):
		left, err := ofTIFF(whole, size, of.Pages, add)
		return all, left, err
	case Picture(head):
		picture, err := decoded(whole)
		if err == nil {
			err = add(picture, 0)
		}
		return all, 0, err
	}
	return nil, 0, nil
}

// mostPagesTIFF bounds the pages of a TIFF that are counted.
const mostPagesTIFF = 10_000

// ofTIFF looks at the pages of a TIFF, each of which has a directory that names the next one's (TIFF 6.0, section 2).
func ofTIFF(r io.ReaderAt, size int64, most int, look func(page image.Image, number int) error) (left int, err error) {
	var order binary.ByteOrder = binary.LittleEndian
	head := make([]byte, 8)
	if _, err := r.ReadAt(head, 0); err != nil {
		return 0, problem("it is broken")
	}
	if head[0] == 'M' {
		order = binary.BigEndian
	}
	at := int64(order.Uint32(head[4:]))
	var seen []int64
	for n := 0; at != 0; n++ {
		if n >= mostPagesTIFF || slices.Contains(seen, at) {
			return 0, problem("its pages have no end")
		}
		seen = append(seen, at)
		if n < most {
			order.PutUint32(head[4:], uint32(at)) // the page is the first one then
			page := &headed{head: head, rest: io.NewSectionReader(r, 0, size)}
			picture, err := tiffPage(page)
			if err == nil {
				err = look(picture, n)
			}
			if err != nil {
				return 0, err
			}
		} else {
			left++
		}
		count := make([]byte, 2)
		next := make([]byte, 4)
		_, err := r.ReadAt(count, at)
		if err == nil {
			_, err = r.ReadAt(next, at+2+12*int64(order.Uint16(count)))
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		if err != nil {
			return 0, problem("it ends too early")
		}
		at = int64(order.Uint32(next))
	}
	return left, nil
}

func tiffPage(r io.ReaderAt) (image.Image, error) {
	whole := func() io.Reader { return io.NewSectionReader(r, 0, 1<<40) }
	size, err := tiff.DecodeConfig(whole())
	if err != nil {
		return nil, problem("it is broken (%v)", err)
	}
	if err := fits(size); err != nil {
		return nil, err
	}
	picture, err := tiff.Decode(whole())
	if err != nil {
		return nil, problem("it is broken (%v)", err)
	}
	return smaller(ocr.Grey(picture)), nil
}

// headed is a file with another beginning.
type headed struct {
	head []byte
	rest io.ReaderAt
}

func (j *headed) ReadAt(p []byte, at int64) (int, error) {
	n, err := j.rest.ReadAt(p, at)
	if at < int64(len(j.head)) {
		copy(p[:n], bytes.Clone(j.head[at:]))
	}
	return n, err
}
