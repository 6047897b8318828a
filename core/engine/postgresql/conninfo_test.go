package postgresql

import (
	"reflect"
	"testing"
)

// TestConnectionString: as libpq reads them.
func TestConnectionString(t *testing.T) {
	for text, want := range map[string][][2]string{
		"host=h dbname=d":                    {{"host", "h"}, {"dbname", "d"}},
		" host = h\n\tport=5 ":               {{"host", "h"}, {"port", "5"}},
		`dbname='a b' password='it\'s \\'`:   {{"dbname", "a b"}, {"password", `it's \`}},
		`dbname=a\ b host=`:                  {{"dbname", "a b"}, {"host", ""}},
		"host='' user=x":                     {{"host", ""}, {"user", "x"}},
		"hostaddr=192.0.2.1 password=a'b":    {{"hostaddr", "192.0.2.1"}, {"password", "a'b"}},
		"service=tides":                      {{"service", "tides"}},
		"":                                   nil,
		"user=x":                             nil,
		"host":                               nil,
		"host=h and more":                    nil,
		"dbname='open":                       nil,
		"postgresql://h/d?host=x":            nil,
		"Host=h;Database=d":                  nil,
		"SELECT host=1 FROM t WHERE dbname=": nil,
	} {
		got, ok := connectionString(text)
		if ok != (want != nil) || ok && !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %q %v", text, got, ok)
		}
	}
}
