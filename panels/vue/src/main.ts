import { createApp } from 'vue';
import TidePanel from './tide-panel.vue';

createApp(TidePanel).mount('#harbour');
