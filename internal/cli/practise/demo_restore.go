package practise

import (
	"fmt"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// restore backs the cluster up, has somebody delete an application, and brings it back, while
// the other one is asked.
func (d *demo) restore() error {
	d.stage("Back it up, and bring it back", "A backup is taken and tried. Then somebody deletes lampbook by mistake. The datastore is founded anew\n   from the backup: the API is away for a moment, and tidetable goes on serving.")
	for _, args := range [][]string{{"backup", "take", "--name", "before-the-fair"}, {"backup", "verify", "before-the-fair", "--raise"}} {
		if err := d.do(args...); err != nil {
			return err
		}
	}
	// What is trusted may have been replaced since the last client was made.
	k, err := d.reads()
	if err != nil {
		return err
	}
	if err := k.AppsV1().Deployments("default").Delete(d.Soft, "lampbook", metav1.DeleteOptions{}); err != nil {
		return err
	}
	if err := d.do("backup", "restore", "before-the-fair", "--yes", "--confirm", demoCluster); err != nil {
		return err
	}
	err = available(d.Soft, k, "lampbook", d.longer(30*time.Second))
	why := ""
	if err != nil {
		why = fmt.Sprintf(": %v", err)
	}
	d.check(err == nil, "lampbook, which somebody had deleted, serves again%s", why)
	s, v, err := d.sub.View()
	if err != nil {
		return err
	}
	defer s.Close()
	d.check(len(v.Ailing()) == 0, "after that, %s", ailing(v))
	return nil
}
