package bench
import ("testing";"os";"path/filepath";"lockback/core/inventory";"lockback/core/machine")
func BenchmarkTakeMac(b *testing.B){
 root := "/tmp/bigmac"
 if _,err:=os.Stat(root); err!=nil { os.Mkdir(root,0o755); if err:=BuildMac(root, LargeMac); err!=nil{b.Fatal(err)} }
 _ = filepath.Join
 for b.Loop(){ m,err:=machine.Open(root); if err!=nil{b.Fatal(err)}; inventory.Take(m); m.Close() }
}
