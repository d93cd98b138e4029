package ocr

import (
	"image"
	"image/color"
	"image/draw"
	"math"

	xdraw "golang.org/x/image/draw"
	"golang.org/x/image/math/f64"
)

const (
	mostTilt   = 15.0    // degrees that are looked for
	leastTilt  = 0.3     // less does not matter
	mostPoints = 150_000 // dark points of a page that are looked at
	looked     = 1000    // pixels across at which it is looked at
)

// Grey is a picture in shades of grey, on white where it is transparent.
func Grey(of image.Image) *image.Gray {
	if grey, is := of.(*image.Gray); is {
		return grey
	}
	b := of.Bounds()
	grey := image.NewGray(image.Rect(0, 0, b.Dx(), b.Dy()))
	draw.Draw(grey, grey.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(grey, grey.Bounds(), of, b.Min, draw.Over)
	return grey
}

// Tilt is by how many degrees the lines of a page go down to the right; negative ones go up. It is 0 where no lines are
// seen. Lines lie straight where the dark points of the page gather in few rows.
func Tilt(page *image.Gray) float64 {
	dark := darkPoints(page)
	if len(dark) < 200 {
		return 0
	}
	best, most := 0.0, 0.0
	level := sharpness(dark, 0)
	for _, step := range []float64{1, 0.25, 0.05} {
		from := best
		width := 2 * step * 2
		if step == 1 {
			width = mostTilt
		}
		for a := from - width; a <= from+width; a += step {
			if s := sharpness(dark, a); s > most {
				best, most = a, s
			}
		}
	}
	if math.Abs(best) > mostTilt || most < level*1.1 { // a picture without lines has no direction
		return 0
	}
	return best
}

// darkPoints are the points of a page that are darker than their surroundings, on a small copy of it.
func darkPoints(page *image.Gray) []image.Point {
	b := page.Bounds()
	step := max(1, max(b.Dx(), b.Dy())/looked)
	width, height := b.Dx()/step, b.Dy()/step
	if width < 20 || height < 20 {
		return nil
	}
	small := make([]int, width*height)
	sum := 0
	for y := range height {
		for x := range width {
			lowest := 255 // thin strokes stay dark
			total := 0
			for dy := range step {
				at := page.PixOffset(b.Min.X+x*step, b.Min.Y+y*step+dy)
				for _, p := range page.Pix[at : at+step] {
					lowest, total = min(lowest, int(p)), total+int(p)
				}
			}
			small[y*width+x] = (lowest + total/(step*step)) / 2
			sum += small[y*width+x]
		}
	}
	limit := sum / len(small) * 3 / 4
	var dark []image.Point
	for i, p := range small {
		if p < limit {
			dark = append(dark, image.Pt(i%width, i/width))
		}
	}
	if every := len(dark)/mostPoints + 1; every > 1 {
		kept := dark[:0]
		for i := 0; i < len(dark); i += every {
			kept = append(kept, dark[i])
		}
		dark = kept
	}
	return dark
}

// sharpness says how much the points gather in rows that are tilted by an angle in degrees.
func sharpness(dark []image.Point, angle float64) float64 {
	slope := math.Tan(angle * math.Pi / 180)
	rows := map[int]int{}
	for _, p := range dark {
		rows[int(math.Round(float64(p.Y)-float64(p.X)*slope))]++
	}
	total := 0.0
	for _, n := range rows {
		total += float64(n) * float64(n)
	}
	return total
}

// Straighten turns a page so that its lines lie straight, and says by how many degrees they were tilted. The page keeps
// its size.
func Straighten(page *image.Gray) (image.Image, float64) {
	tilt := Tilt(page)
	if math.Abs(tilt) < leastTilt {
		return page, 0
	}
	b := page.Bounds()
	out := image.NewRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
	draw.Draw(out, out.Bounds(), image.NewUniform(color.Gray{paperOf(page)}), image.Point{}, draw.Src)
	xdraw.ApproxBiLinear.Transform(out, turned(b, tilt), page, b, xdraw.Src, nil)
	return out, tilt
}

// turned is the turn by which a tilted page lies straight, around its middle.
func turned(b image.Rectangle, tilt float64) f64.Aff3 {
	sin, cos := math.Sincos(-tilt * math.Pi / 180)
	x, y := float64(b.Dx())/2, float64(b.Dy())/2
	return f64.Aff3{cos, -sin, x - cos*x + sin*y, sin, cos, y - sin*x - cos*y}
}

// Back gives the place on the page as it was of a place on the straightened page of a size in pixels.
func Back(x, y float64, width, height int, tilt float64) (backX, backY float64) {
	t := turned(image.Rect(0, 0, width, height), -tilt)
	return t[0]*x + t[1]*y + t[2], t[3]*x + t[4]*y + t[5]
}

// paperOf is the shade of the paper: the most frequent one of the lighter half.
func paperOf(page *image.Gray) uint8 {
	var count [256]int
	for i := 0; i < len(page.Pix); i += 7 {
		count[page.Pix[i]]++
	}
	best := 255
	for shade := 128; shade < 256; shade++ {
		if count[shade] > count[best] {
			best = shade
		}
	}
	return uint8(best)
}
