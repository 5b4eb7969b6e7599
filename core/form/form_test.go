package form

import "testing"

func TestRead(t *testing.T) {
	for in, want := range map[string]string{
		`{"name": "x"}`:             "",
		``:                          "it is empty",
		`{`:                         "it breaks off in the middle",
		`{"name": "x"} {}`:          "something follows it",
		`{"name": x}`:               "it is no JSON: something is wrong at byte 10",
		`{"name": 7}`:               `its field "name" holds a number, where that does not belong`,
		`[]`:                        "it is of the kind array, where an object with fields belongs",
		`{"name": "x", "other": 1}`: `it has a field "other", which is not known`,
	} {
		var v struct {
			Name string `json:"name"`
		}
		got := ""
		if err := Read([]byte(in), &v); err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%q: told as %q, not %q", in, got, want)
		}
	}
	var v struct{ Name string }
	if err := ReadOf([]byte(`{"name": "x", "other": 1}`), &v); err != nil || v.Name != "x" {
		t.Errorf("with a field besides: %+v, %v", v, err)
	}
}
