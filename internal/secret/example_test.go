package secret_test

import (
	"encoding/json"
	"fmt"

	"gentle-harbor/internal/secret"
)

// A secret prints as a mask, however it is printed; one word gives its text.
func ExampleSecret() {
	s := secret.New("ropes-and-lanterns")
	fmt.Println(s)
	fmt.Printf("%v %+v %q\n", s, struct{ Password secret.Secret }{s}, s)
	data, _ := json.Marshal(s)
	fmt.Println(string(data))
	fmt.Println(len(s.Reveal()))
	// Output:
	// [secret]
	// [secret] {Password:[secret]} [secret]
	// "[secret]"
	// 18
}

// A profile says where a password comes from, never what it is.
func ExampleParseReference() {
	for _, text := range []string{"env:HUT_WARDEN_PW", "wallet", "file:/run/secrets/hut", "ropes-and-lanterns"} {
		r, err := secret.ParseReference(text)
		fmt.Printf("%s %q %v\n", r.Kind, r.Of, err == nil)
	}
	// Output:
	// env "HUT_WARDEN_PW" true
	// wallet "" true
	// file "/run/secrets/hut" true
	//  "" false
}
