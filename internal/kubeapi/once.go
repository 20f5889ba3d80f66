package kubeapi

import (
	"bytes"
	"encoding/json"
	"hash/maphash"
	"io"
	"slices"
	"sync/atomic"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/utils/lru"
)

// ReadOnce has all clients of this process read what several of them are told by watches once,
// and keep the last so many events for that: where the machines of a zone share a process, each
// of them is told of every node in the same words. Everybody gets a copy.
func ReadOnce(most int) {
	told.Store(&once{seed: maphash.MakeSeed(), events: lru.New(most), objects: lru.New(most)})
}

var told atomic.Pointer[once]

// once are events, and the objects in them, that were read, by the hashes of their texts.
type once struct {
	seed            maphash.Seed
	events, objects *lru.Cache
}

// of finds what was read from a text.
func (t *once) of(c *lru.Cache, text []byte) (key uint64, r read, ok bool) {
	key = maphash.Bytes(t.seed, text)
	v, ok := c.Get(key)
	if ok {
		r = v.(read)
		ok = bytes.Equal(r.text, text)
	}
	return key, r, ok
}

type read struct {
	text []byte
	o    runtime.Object
	kind *schema.GroupVersionKind
}

// codecs are the published ones, but for what watches tell.
type codecs struct{ runtime.NegotiatedSerializer }

func (c codecs) DecoderToVersion(d runtime.Decoder, v runtime.GroupVersioner) runtime.Decoder {
	return decoder{c.NegotiatedSerializer.DecoderToVersion(d, v)}
}

func (c codecs) SupportedMediaTypes() []runtime.SerializerInfo {
	out := slices.Clone(c.NegotiatedSerializer.SupportedMediaTypes())
	for i := range out {
		if s := out[i].StreamSerializer; s != nil && out[i].MediaType == runtime.ContentTypeJSON {
			own := *s
			own.Serializer, own.Framer = events{s.Serializer}, lines{s.Framer}
			out[i].StreamSerializer = &own
		}
	}
	return out
}

// decoder reads the objects that events hold.
type decoder struct{ runtime.Decoder }

// Decode reads an object. Who says into what has one of its own, and who says how it is to be
// completed gets another one than others.
func (d decoder) Decode(text []byte, defaults *schema.GroupVersionKind, into runtime.Object) (runtime.Object, *schema.GroupVersionKind, error) {
	t := told.Load()
	if t == nil || defaults != nil || into != nil {
		return d.Decoder.Decode(text, defaults, into)
	}
	key, r, ok := t.of(t.objects, text)
	if ok {
		kind := *r.kind
		return r.o.DeepCopyObject(), &kind, nil
	}
	o, kind, err := d.Decoder.Decode(text, nil, nil)
	if err == nil && o != nil && kind != nil {
		t.objects.Add(key, read{bytes.Clone(text), o.DeepCopyObject(), kind})
	}
	return o, kind, err
}

// events read what a watch tells: what happened, and the text of the object to which it did.
type events struct{ runtime.Serializer }

// Decode reads one event.
func (e events) Decode(text []byte, defaults *schema.GroupVersionKind, into runtime.Object) (runtime.Object, *schema.GroupVersionKind, error) {
	t := told.Load()
	event, is := into.(*metav1.WatchEvent)
	if t == nil || !is || defaults != nil {
		return e.Serializer.Decode(text, defaults, into)
	}
	key, r, ok := t.of(t.events, text)
	if ok {
		// The text of the object is only ever read.
		*event = *r.o.(*metav1.WatchEvent)
		kind := *r.kind
		return event, &kind, nil
	}
	o, kind, err := e.Serializer.Decode(text, defaults, into)
	if err == nil && o == into && kind != nil {
		kept := *event
		kept.Object.Raw = bytes.Clone(event.Object.Raw)
		t.events.Add(key, read{bytes.Clone(text), &kept, kind})
	}
	return o, kind, err
}

// lines are frames of which each is a line, as servers write them, or has come alone. What is
// neither is left to the published way of finding their ends.
type lines struct{ runtime.Framer }

func (l lines) NewFrameReader(r io.ReadCloser) io.ReadCloser {
	return &lineReader{Closer: r, from: r, framer: l.Framer}
}

// lineReader returns a frame with each Read; what finds no room is returned by the next.
type lineReader struct {
	io.Closer
	from   io.Reader
	framer runtime.Framer
	come   []byte // and belongs to no frame yet
	left   []byte // of a frame
	other  io.Reader
}

func (l *lineReader) Read(into []byte) (int, error) {
	if len(l.left) == 0 && l.other == nil {
		if err := l.next(); err != nil {
			return 0, err
		}
	}
	if l.other != nil {
		return l.other.Read(into)
	}
	n := copy(into, l.left)
	if l.left = l.left[n:]; len(l.left) > 0 {
		return n, io.ErrShortBuffer
	}
	return n, nil
}

// next reads until there is a frame, or something that is none.
func (l *lineReader) next() error {
	const atOnce = 4 << 10
	looked := 0 // up to where there is no end of a line
	for {
		if l.come = bytes.TrimLeft(l.come, "\r\n"); looked > len(l.come) {
			looked = 0
		}
		if n := bytes.IndexByte(l.come[looked:], '\n'); n >= 0 {
			return l.frame(looked+n, true)
		}
		if looked = len(l.come); looked > 0 && l.come[looked-1] == '}' && whole(l.come) {
			return l.frame(looked, true)
		}
		l.come = slices.Grow(l.come, atOnce)
		n, err := l.from.Read(l.come[len(l.come) : len(l.come)+atOnce])
		l.come = l.come[:len(l.come)+n]
		if err != nil && n == 0 {
			if len(l.come) == 0 {
				return err
			}
			return l.frame(len(l.come), false)
		}
	}
}

// frame takes so many bytes for a frame, if they are one; else the published reader goes on with
// them.
func (l *lineReader) frame(n int, more bool) error {
	line := bytes.TrimRight(l.come[:n], "\r")
	if more && whole(line) {
		l.left, l.come = line, l.come[n:]
		return nil
	}
	l.other = l.framer.NewFrameReader(io.NopCloser(io.MultiReader(bytes.NewReader(l.come), l.from)))
	return nil
}

// whole says whether a line is a whole frame: what was read before is.
func whole(line []byte) bool {
	if t := told.Load(); t != nil {
		if _, _, ok := t.of(t.events, line); ok {
			return true
		}
	}
	return len(line) > 1 && line[0] == '{' && json.Valid(line)
}
