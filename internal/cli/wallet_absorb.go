package cli

import (
	"context"
	"fmt"
	"time"

	"gentle-harbor/internal/secret/keep/credentials"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

func walletAbsorb(ctx context.Context, c *call, w wallet.Wallet) error {
	if len(c.names) != 1 {
		return usage("wallet absorb wants the path of a credential file")
	}
	path := c.Path(c.names[0])
	list, err := credentials.Read(path)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return wrong("%s has no entries", path)
	}
	if !w.Exists() {
		return &finding.Problem{Code: "secret.wallet-missing", Facts: map[string]string{"detail": "There is no wallet in " + w.Dir + "."}}
	}
	if c.undo && !c.yes && !c.Who.Here() {
		return usage("--remove would delete %s; say --yes when that is meant", path)
	}
	passphrase, err := c.passphraseOf(ctx, w)
	if err != nil {
		return err
	}
	news, changed, same := 0, 0, 0
	err = c.working(ctx, "Opening and writing the wallet", func() error {
		return w.Change(ctx, passphrase, func(contents *wallet.Contents) error {
			seen := map[string]int{}
			for _, each := range list {
				if before, twice := seen[each.Way.Key()]; twice {
					return &finding.Problem{Code: "secret.credentials-tie", Facts: map[string]string{"detail": fmt.Sprintf("%s has two entries for %s at %s, in the lines %d and %d.", path, each.Way.User, each.Way.Endpoint, before, each.Line)}}
				}
				seen[each.Way.Key()] = each.Line
				kept, there := contents.Get(each.Way)
				switch {
				case there && kept.Secret.Given() == each.Secret.Given() && kept.Secret.Reveal() == each.Secret.Reveal() && kept.Way.TLS == each.Way.TLS:
					same++
					continue
				case there && !c.replace:
					return wrong("the wallet keeps another password or another encryption for %s at %s than line %d of %s says; --replace lets the file win", each.Way.User, each.Way.Endpoint, each.Line, path)
				case there:
					changed++
				default:
					news++
				}
				contents.Put(wallet.Entry{Way: each.Way, Secret: each.Secret, Changed: time.Now()})
			}
			return nil
		})
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "The wallet %s took in %d new and %d changed entries; %d were there already.\n", w.Dir, news, changed, same)
	if !c.undo {
		if !c.Who.Here() {
			fmt.Fprintf(c.Stderr, "note: %s still holds the passwords in clear; --remove --yes removes it\n", path)
			return nil
		}
		yes, err := c.agreed(ctx, "Remove "+path+", which still holds them in clear?", "")
		if err != nil || !yes {
			return err
		}
	} else if yes, err := c.agreed(ctx, "Remove "+path+"?", "--remove would delete "+path); err != nil || !yes {
		return err
	}
	return c.removeAbsorbed(w, passphrase, path, list)
}

// removeAbsorbed removes a credential file once the wallet was opened anew and holds each of its entries, and the
// file is still what was read.
func (c *call) removeAbsorbed(w wallet.Wallet, passphrase secret.Secret, path string, list []credentials.Entry) error {
	contents, err := w.Open(passphrase)
	if err != nil {
		return err
	}
	now, err := credentials.Read(path)
	if err != nil {
		return err
	}
	if len(now) != len(list) {
		return wrong("%s has changed meanwhile, and was left as it is", path)
	}
	for _, each := range now {
		if kept, there := contents.Get(each.Way); !there || kept.Secret.Given() != each.Secret.Given() || kept.Secret.Reveal() != each.Secret.Reveal() {
			return wrong("line %d of %s is not in the wallet; the file was left as it is", each.Line, path)
		}
	}
	if err := files.Erase(path); err != nil {
		return wrong("%s could not be removed: %v", path, err)
	}
	fmt.Fprintf(c.Stdout, "Removed %s. Backups and snapshots may still hold it.\n", path)
	return nil
}
